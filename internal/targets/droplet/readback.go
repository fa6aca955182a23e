package droplet

import (
	"strings"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/targets/cloud"
)

// readBack reads a machine out of its body and the commands that create firewalls.
func readBack(r cloud.Rendered, m *fleet.Machine) (cloud.Reading, error) {
	body, err := r.Document(m.Name + "/droplet.json")
	if err != nil {
		return cloud.Reading{}, err
	}
	reading := cloud.Reading{UserData: []byte(body.At("user_data").Text())}
	for _, tag := range body.At("tags").List() {
		key, value, _ := strings.Cut(tag.Text(), ":")
		if key != "firewall" {
			reading.Labels = append(reading.Labels, fleet.Pair{Key: key, Value: value})
			continue
		}
		for _, step := range r.Steps {
			if strings.Contains(step.Command, "--tag-names "+tag.Text()+" ") {
				_, rules, _ := strings.Cut(step.Command, "--inbound-rules '")
				reading.Openings = append(reading.Openings, openings(strings.TrimSuffix(rules, "'"))...)
			}
		}
	}
	return reading, nil
}

// openings reads rules in the form of doctl. Everything is said by one rule for each
// protocol; tcp and udp for all ports, followed by icmp, count as everything.
func openings(rules string) []cloud.Opening {
	var list []cloud.Opening
	for _, rule := range strings.Fields(rules) {
		var o cloud.Opening
		for _, part := range strings.Split(rule, ",") {
			key, value, _ := strings.Cut(part, ":")
			switch key {
			case "protocol":
				o.Protocol = cloud.ReadProtocol(value)
			case "ports":
				o.First, o.Last = cloud.ReadPorts(value)
			case "address":
				o.From = append(o.From, value)
			}
		}
		switch {
		case o.First > 0 || o.Protocol == fleet.ICMP && !endsWithAllPorts(list):
			list = append(list, o)
		case o.Protocol == fleet.TCP:
			o.Protocol = fleet.AnyProtocol
			list = append(list, o)
		}
	}
	return list
}

func endsWithAllPorts(list []cloud.Opening) bool {
	return len(list) > 0 && list[len(list)-1].Protocol == fleet.AnyProtocol
}
