package cloudformation

import (
	"encoding/base64"
	"fmt"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/targets/cloud"
)

// readBack reads a machine out of the template, where it is found by its tag Name.
func readBack(r cloud.Rendered, m *fleet.Machine) (cloud.Reading, error) {
	document, err := r.Document(r.Fleet.Name + ".cloudformation.json")
	if err != nil {
		return cloud.Reading{}, err
	}
	resources := document.At("Resources")
	for _, resource := range resources.Map() {
		instance := resource.At("Properties")
		if resource.At("Type").Text() != "AWS::EC2::Instance" ||
			instance.At("Tags", 0, "Value").Text() != r.Fleet.Deployment()+"-"+m.Name {
			continue
		}
		reading := cloud.Reading{UserData: []byte(instance.At("UserData", "Fn::Base64").Text())}
		if encoded := instance.At("UserData"); len(reading.UserData) == 0 {
			if reading.UserData, err = base64.StdEncoding.DecodeString(encoded.Text()); err != nil {
				return cloud.Reading{}, fmt.Errorf("user data of %s: %w", m.Name, err)
			}
		}
		for _, tag := range instance.At("Tags").List()[1:] {
			reading.Labels = append(reading.Labels, fleet.Pair{Key: tag.At("Key").Text(),
				Value: tag.At("Value").Text()})
		}
		nic := instance.At("NetworkInterfaces", 0)
		if id := nic.At("NetworkInterfaceId", "Ref"); id.Exists() {
			nic = resources.At(id.Text(), "Properties")
		}
		for _, group := range nic.At("GroupSet").List() {
			set := resources.At(group.At("Fn::GetAtt", 0).Text(), "Properties")
			for _, rule := range set.At("SecurityGroupIngress").List() {
				reading.Openings = append(reading.Openings, opening(rule))
			}
		}
		return reading, nil
	}
	return cloud.Reading{}, fmt.Errorf("the template has no machine %s", m.Name)
}

func opening(rule cloud.Document) cloud.Opening {
	from := rule.At("CidrIp")
	if !from.Exists() {
		from = rule.At("CidrIpv6")
	}
	return cloud.Opening{
		Protocol: cloud.ReadProtocol(rule.At("IpProtocol").Text()),
		First:    max(0, rule.At("FromPort").Number()), Last: max(0, rule.At("ToPort").Number()),
		From: []string{from.Text()},
	}
}
