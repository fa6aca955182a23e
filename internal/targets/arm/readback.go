package arm

import (
	"encoding/base64"
	"fmt"
	"strings"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/targets/cloud"
)

// readBack reads a machine out of the template and the file of secret parameters.
func readBack(r cloud.Rendered, m *fleet.Machine) (cloud.Reading, error) {
	document, err := r.Document(r.Fleet.Name + ".arm.json")
	if err != nil {
		return cloud.Reading{}, err
	}
	resources := map[string]cloud.Document{}
	for _, resource := range document.At("resources").List() {
		resources[resource.At("type").Text()+" "+resource.At("name").Text()] = resource
	}
	machine, ok := resources[machineKind+" "+m.Name]
	if !ok {
		return cloud.Reading{}, fmt.Errorf("the template has no machine %s", m.Name)
	}
	var reading cloud.Reading
	encoded := machine.At("properties", "osProfile", "customData").Text()
	if parameter, isParameter := strings.CutPrefix(encoded, "[parameters('"); isParameter {
		values, err := r.Document(r.Fleet.Name + valuesFile)
		if err != nil {
			return cloud.Reading{}, err
		}
		encoded = values.At("parameters", strings.TrimSuffix(parameter, "')]"), "value").Text()
	}
	if reading.UserData, err = base64.StdEncoding.DecodeString(encoded); err != nil {
		return cloud.Reading{}, fmt.Errorf("user data of %s: %w", m.Name, err)
	}
	for key, value := range machine.At("tags").Map() {
		text := value.Text()
		if strings.HasPrefix(text, "[[") {
			text = text[1:] // an escaped bracket
		}
		reading.Labels = append(reading.Labels, fleet.Pair{Key: key, Value: text})
	}
	nic := machine.At("properties", "networkProfile", "networkInterfaces", 0, "id").Text()
	group := resources[interfaceKind+" "+lastName(nic)].At("properties", "networkSecurityGroup", "id").Text()
	for _, rule := range resources[groupKind+" "+lastName(group)].At("properties", "securityRules").List() {
		if properties := rule.At("properties"); properties.At("access").Text() == "Allow" {
			reading.Openings = append(reading.Openings, opening(properties))
		}
	}
	return reading, nil
}

// lastName returns the last name in an expression made by id.
func lastName(expression string) string {
	parts := strings.Split(expression, "'")
	if len(parts) < 2 {
		return ""
	}
	return parts[len(parts)-2]
}

func opening(rule cloud.Document) cloud.Opening {
	o := cloud.Opening{Protocol: cloud.ReadProtocol(rule.At("protocol").Text())}
	o.First, o.Last = cloud.ReadPorts(rule.At("destinationPortRange").Text())
	switch one := rule.At("sourceAddressPrefix").Text(); one {
	case "*":
		o.From = cloud.Everywhere()
	case "":
		for _, prefix := range rule.At("sourceAddressPrefixes").List() {
			o.From = append(o.From, prefix.Text())
		}
	default:
		o.From = []string{one}
	}
	return o
}
