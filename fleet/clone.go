package fleet

import "slices"

// Clone returns a copy of the machine that shares nothing with it.
func (m *Machine) Clone() *Machine {
	c := *m
	c.Origins = m.cloneOrigins()
	c.Kits = slices.Clone(m.Kits)
	c.Labels = slices.Clone(m.Labels)
	c.Names = slices.Clone(m.Names)
	c.Firewall = slices.Clone(m.Firewall)
	c.Accept = slices.Clone(m.Accept)
	c.Resources.Origins = m.Resources.cloneOrigins()
	c.SSH.Origins = m.SSH.cloneOrigins()
	c.Time.Origins = m.Time.cloneOrigins()
	c.Time.Servers = slices.Clone(m.Time.Servers)
	c.Console.Origins = m.Console.cloneOrigins()
	c.Firmware.Origins = m.Firmware.cloneOrigins()
	c.Identity.Origins = m.Identity.cloneOrigins()
	c.Identity.Scopes = slices.Clone(m.Identity.Scopes)
	c.Disks = cloneEach(m.Disks, func(d *Disk) {
		d.Origins = d.cloneOrigins()
		d.Options = slices.Clone(d.Options)
	})
	c.Media = cloneEach(m.Media, func(d *Medium) { d.Origins = d.cloneOrigins() })
	c.NICs = cloneEach(m.NICs, func(n *NIC) {
		n.Origins = n.cloneOrigins()
		n.Also = slices.Clone(n.Also)
		n.Routes = cloneEach(n.Routes, func(r *Route) { r.Origins = r.cloneOrigins() })
	})
	c.Ports = cloneEach(m.Ports, func(p *Port) { p.Origins = p.cloneOrigins() })
	c.Users = cloneEach(m.Users, func(u *User) {
		u.Origins = u.cloneOrigins()
		u.Groups = slices.Clone(u.Groups)
		u.Keys = slices.Clone(u.Keys)
	})
	c.Shares = cloneEach(m.Shares, func(s *Share) { s.Origins = s.cloneOrigins() })
	c.Platforms = cloneEach(m.Platforms, func(p *Platform) {
		p.Origins = p.cloneOrigins()
		p.Settings = slices.Clone(p.Settings)
		p.Sizes = cloneEach(p.Sizes, func(s *Size) { s.Origins = s.cloneOrigins() })
	})
	if m.FirstBoot != nil {
		boot := *m.FirstBoot
		boot.Origins = boot.cloneOrigins()
		boot.Packages = slices.Clone(boot.Packages)
		boot.Services = slices.Clone(boot.Services)
		boot.Sources = cloneEach(boot.Sources, func(s *PackageSource) {
			s.Origins = s.cloneOrigins()
			s.Components = slices.Clone(s.Components)
		})
		boot.Files = cloneEach(boot.Files, func(f *File) {
			f.Origins = f.cloneOrigins()
			f.Secrets = slices.Clone(f.Secrets)
		})
		boot.Scripts = cloneEach(boot.Scripts, func(s *Script) {
			s.Origins = s.cloneOrigins()
			s.Secrets = slices.Clone(s.Secrets)
		})
		c.FirstBoot = &boot
	}
	return &c
}

// cloneEach copies a list of nouns. deepen replaces what a copy still shares.
func cloneEach[T any](list []*T, deepen func(*T)) []*T {
	if list == nil {
		return nil
	}
	copies := make([]*T, len(list))
	for i, noun := range list {
		c := *noun
		deepen(&c)
		copies[i] = &c
	}
	return copies
}
