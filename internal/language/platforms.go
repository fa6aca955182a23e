package language

import (
	"stavren.example/stavren/fleet"
)

var platformTable = newTable[fleet.Platform]("a platform", nil, func() []field[fleet.Platform] {
	return []field[fleet.Platform]{
		{
			key: "region", doc: "Region of the platform.",
			example: "eu-north-1",
			value:   text(oneLine, func(p *fleet.Platform) *string { return &p.Region }),
		},
		{
			key: "zone", doc: "Zone within the region.",
			example: "eu-north-1a",
			value:   text(oneLine, func(p *fleet.Platform) *string { return &p.Zone }),
		},
		{
			key: "network", doc: "The platform's network that machines are put on.",
			example: "quay-net",
			value:   text(oneLine, func(p *fleet.Platform) *string { return &p.Network }),
		},
		{
			key: "address_pool", doc: "Pool that public addresses come from.",
			example: "outside",
			value:   text(oneLine, func(p *fleet.Platform) *string { return &p.AddressPool }),
		},
		{
			key: "size", doc: "The size that machines get.",
			def: "the best fit", example: "small",
			value: text(oneLine, func(p *fleet.Platform) *string { return &p.Size }),
		},
		{
			key: "sizes", doc: "Sizes of a platform without public ones, by name.",
			example: "{small: {cpus: 1, memory: 1GiB}}",
			value: named(sizeTable, shortText, func(p *fleet.Platform) *[]*fleet.Size { return &p.Sizes },
				func(n *fleet.Size) *string { return &n.Name }),
		},
		{
			key: "settings", doc: "Settings that only this platform has.",
			example: "{project: tides}",
			value:   pairs("settings", shortText, func(p *fleet.Platform) *[]fleet.Pair { return &p.Settings }),
		},
	}
})

var sizeTable = newTable[fleet.Size]("a size", nil, func() []field[fleet.Size] {
	return []field[fleet.Size]{
		{
			key: "cpus", doc: "Its virtual processors.",
			example: "2", required: true,
			value: integer(1, 1024, "a number such as 2", func(s *fleet.Size) *int { return &s.CPUs }),
		},
		{
			key: "memory", doc: "Its memory.",
			example: "4GiB", required: true,
			value: amount(fleet.MiB, func(s *fleet.Size) *fleet.Bytes { return &s.Memory }),
		},
		{
			key: "disk", doc: "The disk that comes with it.",
			example: "20GiB",
			value:   amount(fleet.MiB, func(s *fleet.Size) *fleet.Bytes { return &s.Disk }),
		},
	}
})

var limitTable = newTable[fleet.Limit]("a limit", nil, func() []field[fleet.Limit] {
	return []field[fleet.Limit]{
		{
			key: "machines", doc: "The most machines.",
			example: "10",
			value:   integer(0, 1e6, "a number such as 10", func(l *fleet.Limit) *int { return &l.Machines }),
		},
		{
			key: "cpus", doc: "The most virtual processors.",
			example: "20",
			value:   integer(0, 1e6, "a number such as 20", func(l *fleet.Limit) *int { return &l.CPUs }),
		},
		{
			key: "memory", doc: "The most memory.",
			example: "16GiB",
			value:   amount(0, func(l *fleet.Limit) *fleet.Bytes { return &l.Memory }),
		},
		{
			key: "disk", doc: "The most disk space.",
			example: "500GiB",
			value:   amount(0, func(l *fleet.Limit) *fleet.Bytes { return &l.Disk }),
		},
		{
			key: "public_addresses", doc: "The most public addresses.",
			example: "5",
			value:   integer(0, 1e6, "a number such as 5", func(l *fleet.Limit) *int { return &l.PublicAddresses }),
		},
		{
			key: "reserve", doc: "Share of the host's memory kept for the host itself.",
			def: "0%", example: "50%",
			value: percent(func(l *fleet.Limit) *int { return &l.Reserve }),
		},
	}
})

var identityTable = newTable[fleet.Identity]("an identity", nil, func() []field[fleet.Identity] {
	return []field[fleet.Identity]{
		{
			key: "account", doc: "The account's name on the platform.",
			example: "tides",
			value:   text(oneLine, func(i *fleet.Identity) *string { return &i.Account }),
		},
		{
			key: "scopes", doc: "What the account is allowed to do, in the platform's terms.",
			example: "[storage-read]",
			value:   words("scopes", shortText, func(i *fleet.Identity) *[]string { return &i.Scopes }),
		},
	}
})
