package oci

import (
	"encoding/base64"
	"fmt"
	"strings"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/targets/cloud"
)

// readBack reads a machine out of its body and the commands that create security
// groups.
func readBack(r cloud.Rendered, m *fleet.Machine) (cloud.Reading, error) {
	body, err := r.Document(m.Name + "/instance.json")
	if err != nil {
		return cloud.Reading{}, err
	}
	var reading cloud.Reading
	if reading.UserData, err = base64.StdEncoding.DecodeString(body.At("metadata", "user_data").Text()); err != nil {
		return cloud.Reading{}, fmt.Errorf("user data of %s: %w", m.Name, err)
	}
	for key, value := range body.At("freeformTags").Map() {
		reading.Labels = append(reading.Labels, fleet.Pair{Key: key, Value: value.Text()})
	}
	for _, group := range body.At("createVnicDetails", "nsgIds").List() {
		for _, step := range r.Steps {
			if !strings.HasSuffix(step.About, " "+group.Text()) {
				continue
			}
			_, rules, _ := strings.Cut(step.Command, "--security-rules '")
			document, err := cloud.Rendered{Files: map[string][]byte{"rules": []byte(strings.TrimSuffix(rules,
				"'"))}}.Document("rules")
			if err != nil {
				return cloud.Reading{}, err
			}
			for _, rule := range document.List() {
				reading.Openings = append(reading.Openings, opening(rule))
			}
		}
	}
	return reading, nil
}

func opening(rule cloud.Document) cloud.Opening {
	o := cloud.Opening{Protocol: cloud.ReadProtocol(rule.At("protocol").Text()),
		From: []string{rule.At("source").Text()}}
	ports := rule.At(string(o.Protocol)+"Options", "destinationPortRange")
	o.First, o.Last = ports.At("min").Number(), ports.At("max").Number()
	return o
}
