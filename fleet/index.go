package fleet

import "net/netip"

// index finds nouns by name. [Fleet.Complete] makes it. Until then, lists are
// searched from the beginning.
type index struct {
	images    map[string]*Image
	networks  map[string]*Network
	keys      map[string]*Key
	secrets   map[string]*Secret
	firewalls map[string]*Firewall
	machines  map[string]*Machine
	attached  map[string][]Attachment
	assigned  map[*NIC]netip.Addr
}

func newIndex(f *Fleet) *index {
	attached := attachments(f)
	return &index{byName(f.Images), byName(f.Networks), byName(f.Keys), byName(f.Secrets), byName(f.Firewalls),
		byName(f.Machines), attached, assign(f, attached)}
}

// named is a noun that is found by its name.
type named interface{ name() string }

func (i *Image) name() string    { return i.Name }
func (n *Network) name() string  { return n.Name }
func (k *Key) name() string      { return k.Name }
func (s *Secret) name() string   { return s.Name }
func (w *Firewall) name() string { return w.Name }
func (m *Machine) name() string  { return m.Name }
func (p *Platform) name() string { return p.Name }
func (s *System) name() string   { return s.Name }
func (l *Limit) name() string    { return l.Name }

// byName indexes a list. Of two nouns with the same name, it has the first.
func byName[T named](list []T) map[string]T {
	index := make(map[string]T, len(list))
	for _, noun := range list {
		if _, taken := index[noun.name()]; !taken {
			index[noun.name()] = noun
		}
	}
	return index
}

func find[T named](list []T, name string) (none T) {
	for _, noun := range list {
		if noun.name() == name {
			return noun
		}
	}
	return none
}

// Image returns the image of that name, or nil.
func (f *Fleet) Image(name string) *Image {
	if f.index != nil {
		return f.index.images[name]
	}
	return find(f.Images, name)
}

// Network returns the network of that name, or nil.
func (f *Fleet) Network(name string) *Network {
	if f.index != nil {
		return f.index.networks[name]
	}
	return find(f.Networks, name)
}

// Key returns the key of that name, or nil.
func (f *Fleet) Key(name string) *Key {
	if f.index != nil {
		return f.index.keys[name]
	}
	return find(f.Keys, name)
}

// Secret returns the secret of that name, or nil.
func (f *Fleet) Secret(name string) *Secret {
	if f.index != nil {
		return f.index.secrets[name]
	}
	return find(f.Secrets, name)
}

// Firewall returns the firewall of that name, or nil.
func (f *Fleet) Firewall(name string) *Firewall {
	if f.index != nil {
		return f.index.firewalls[name]
	}
	return find(f.Firewalls, name)
}

// Machine returns the machine of that name, or nil.
func (f *Fleet) Machine(name string) *Machine {
	if f.index != nil {
		return f.index.machines[name]
	}
	return find(f.Machines, name)
}

// System returns the definition's own system of that name, or nil.
func (f *Fleet) System(name string) *System { return find(f.Systems, name) }

// Platform returns what the definition sets for a platform, or nil.
func (f *Fleet) Platform(name string) *Platform { return find(f.Platforms, name) }

// Attachment is an interface of a machine on a network.
type Attachment struct {
	Machine *Machine
	NIC     *NIC
}

func attachments(f *Fleet) map[string][]Attachment {
	attached := make(map[string][]Attachment, len(f.Networks))
	for _, m := range f.Machines {
		for _, nic := range m.NICs {
			attached[nic.Network] = append(attached[nic.Network], Attachment{m, nic})
		}
	}
	return attached
}

// OnNetwork returns the interfaces on the network of that name, in the order of
// the machines.
func (f *Fleet) OnNetwork(name string) []Attachment {
	if f.index != nil {
		return f.index.attached[name]
	}
	return attachments(f)[name]
}

// ForwardingNIC returns the interface that a hypervisor forwards a machine's ports
// through: the first on a nat network, or nil.
func (f *Fleet) ForwardingNIC(m *Machine) *NIC {
	for _, nic := range m.NICs {
		if network := f.Network(nic.Network); network != nil && network.Mode == NAT {
			return nic
		}
	}
	return nil
}

// Assigned returns the address of an interface: its own or, if the network would
// assign one by DHCP, an address of the subnet that nobody else has. Platforms
// without DHCP make that one permanent. It is invalid if the subnet is unknown or
// full.
func (f *Fleet) Assigned(nic *NIC) netip.Addr {
	if nic.Address.IsValid() || f.index == nil {
		return nic.Address
	}
	return f.index.assigned[nic]
}
