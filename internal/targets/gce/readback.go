package gce

import (
	"encoding/base64"
	"fmt"
	"slices"
	"strings"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/targets/cloud"
)

// readBack reads a machine out of its body and those of the firewalls.
func readBack(r cloud.Rendered, m *fleet.Machine) (cloud.Reading, error) {
	body, err := r.Document(m.Name + "/instance.json")
	if err != nil {
		return cloud.Reading{}, err
	}
	items := map[string]string{}
	for _, item := range body.At("metadata", "items").List() {
		items[item.At("key").Text()] = item.At("value").Text()
	}
	reading := cloud.Reading{UserData: []byte(items["user-data"])}
	if items["user-data-encoding"] == "base64" {
		if reading.UserData, err = base64.StdEncoding.DecodeString(items["user-data"]); err != nil {
			return cloud.Reading{}, fmt.Errorf("user data of %s: %w", m.Name, err)
		}
	}
	for key, value := range body.At("labels").Map() {
		reading.Labels = append(reading.Labels, fleet.Pair{Key: key, Value: value.Text()})
	}
	var tags []string
	for _, tag := range body.At("tags", "items").List() {
		tags = append(tags, tag.Text())
	}
	for name := range r.Files {
		if !strings.HasPrefix(name, "firewall-") {
			continue
		}
		firewall, err := r.Document(name)
		if err != nil {
			return cloud.Reading{}, err
		}
		if slices.Contains(tags, firewall.At("targetTags", 0).Text()) {
			reading.Openings = append(reading.Openings, openings(firewall)...)
		}
	}
	return reading, nil
}

func openings(firewall cloud.Document) []cloud.Opening {
	var from []string
	for _, prefix := range firewall.At("sourceRanges").List() {
		from = append(from, prefix.Text())
	}
	var list []cloud.Opening
	for _, allowed := range firewall.At("allowed").List() {
		o := cloud.Opening{Protocol: cloud.ReadProtocol(allowed.At("IPProtocol").Text()), From: from}
		o.First, o.Last = cloud.ReadPorts(allowed.At("ports", 0).Text())
		list = append(list, o)
	}
	return list
}
