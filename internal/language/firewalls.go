package language

import (
	"stavren.example/stavren/fleet"
)

var firewallTable = newTable[fleet.Firewall]("a firewall", nil, func() []field[fleet.Firewall] {
	return []field[fleet.Firewall]{
		{
			key: "allow", doc: "The incoming connections to allow; all others are refused.",
			example: "[{port: 443/tcp, from: any}]", required: true,
			value: listed(allowanceTable, func(w *fleet.Firewall) *[]*fleet.Allowance { return &w.Allow }),
		},
	}
})

var allowanceTable = newTable[fleet.Allowance]("an entry", nil, func() []field[fleet.Allowance] {
	return []field[fleet.Allowance]{
		{
			key: "port", doc: "Port or range with its protocol, `icmp`, or `any`.",
			example: "443/tcp", required: true,
			value: portRange(func(a *fleet.Allowance) *fleet.PortRange { return &a.Port }),
		},
		{
			key: "from", doc: "Where connections may come from: `any`, an address range, a network, machine or firewall of the " +
				"fleet such as `{network: quay}`, or a list of them.",
			example: "198.51.100.0/24", required: true,
			value: sources(),
		},
	}
})
