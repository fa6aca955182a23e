package fleet

// Uses lists the definitions that machines use, by name.
type Uses struct {
	Systems, Images, Networks, Keys, Secrets, Firewalls map[string]bool
}

// UsedBy returns what the given machines of the fleet use. A name counts as used
// even if nothing of that name is defined.
func (f *Fleet) UsedBy(machines []*Machine) Uses {
	uses := Uses{
		Systems: map[string]bool{}, Images: map[string]bool{}, Networks: map[string]bool{},
		Keys: map[string]bool{}, Secrets: map[string]bool{}, Firewalls: map[string]bool{},
	}
	for _, m := range machines {
		uses.Images[m.Image] = true
		if image := f.Image(m.Image); image != nil {
			uses.Systems[image.OS] = true
		}
		add(uses.Firewalls, m.Firewall...)
		add(uses.Secrets, m.Console.Password)
		for _, nic := range m.NICs {
			uses.Networks[nic.Network] = true
		}
		for _, user := range m.Users {
			add(uses.Keys, user.Keys...)
			add(uses.Secrets, user.Password)
		}
		if m.FirstBoot == nil {
			continue // the fleet has not been completed
		}
		for _, file := range m.FirstBoot.Files {
			add(uses.Secrets, file.SecretNames()...)
		}
		for _, script := range m.FirstBoot.Scripts {
			add(uses.Secrets, script.SecretNames()...)
		}
	}
	return uses
}

func add(set map[string]bool, names ...string) {
	for _, name := range names {
		if name != "" {
			set[name] = true
		}
	}
}
