package heat

import (
	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/targets/cloud"
)

// readBack reads a machine out of the template.
func readBack(r cloud.Rendered, m *fleet.Machine) (cloud.Reading, error) {
	document, err := r.Document(r.Fleet.Name + ".heat.yaml")
	if err != nil {
		return cloud.Reading{}, err
	}
	resources := document.At("resources")
	server := resources.At(m.Name, "properties")
	var reading cloud.Reading
	data := server.At("user_data")
	if replaced := data.At("str_replace", "template"); replaced.Exists() {
		data = replaced
	}
	reading.UserData = []byte(data.Text())
	for key, value := range server.At("metadata").Map() {
		reading.Labels = append(reading.Labels, fleet.Pair{Key: key, Value: value.Text()})
	}
	for _, network := range server.At("networks").List()[:1] {
		port := resources.At(network.At("port", "get_resource").Text(), "properties")
		for _, group := range port.At("security_groups").List() {
			for _, rule := range resources.At(group.At("get_resource").Text(), "properties", "rules").List() {
				reading.Openings = append(reading.Openings, cloud.Opening{
					Protocol: cloud.ReadProtocol(rule.At("protocol").Text()),
					First:    rule.At("port_range_min").Number(), Last: rule.At("port_range_max").Number(),
					From: []string{rule.At("remote_ip_prefix").Text()},
				})
			}
		}
	}
	return reading, nil
}
