package cloud

import (
	"errors"
	"fmt"
	"slices"
	"sort"
	"strings"

	"stavren.example/stavren/finding"
	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/catalog"
	"stavren.example/stavren/internal/sizing"
	"stavren.example/stavren/internal/targets/cloudinit"
	"stavren.example/stavren/render"
)

// needs collects findings about one machine.
type needs struct {
	kind Kind
	f    *fleet.Fleet
	m    *fleet.Machine
	list []finding.Finding
}

func (n *needs) add(rule string, severity finding.Severity, place fleet.Place, path, message, remedy string) {
	if !strings.Contains(path, ".") { // a key of the machine itself, or nothing
		path = strings.TrimSuffix("machines."+n.m.Name+"."+path, ".")
	}
	if !place.IsValid() {
		place = n.m.PlaceOf(fleet.Itself) // of a default there is no place
	}
	n.list = append(n.list, finding.Finding{Rule: rule, Severity: severity, Place: place, Path: path, Message: message, Remedy: remedy})
}

// Needs reports what keeps a machine from being submitted, or would surprise
// whoever does.
func (k Kind) Needs(f *fleet.Fleet, m *fleet.Machine) []finding.Finding {
	n := &needs{kind: k, f: f, m: m}
	n.places()
	n.size()
	n.userData()
	n.names()
	n.labels()
	n.disks()
	n.logins()
	return n.list
}

// places names what a person has to fill in.
func (n *needs) places() {
	if image := n.f.Image(n.m.Image); image != nil && strings.HasPrefix(n.kind.ImageID(n.f, n.m), Placeholder) {
		n.add("placeholder-left", finding.Warning, image.PlaceOf(fleet.Itself), "images."+image.Name+".ids",
			fmt.Sprintf("image %s does not say what %s calls it, so the output says %s", image.Name, n.kind.Name, n.kind.ImageID(n.f, n.m)),
			fmt.Sprintf("add ids: {%s: …} to the image, or replace it in the output", n.kind.Name))
	}
	for _, place := range n.kind.Places {
		if place.Needed != nil && !place.Needed(n.f, n.m) || n.kind.Value(n.f, n.m, place.Key) != "" {
			continue
		}
		n.list = append(n.list, n.kind.LeftOpen(n.f, place.Key, place.What, n.kind.Place(n.f, n.m, place.Key)))
	}
}

// LeftOpen says that the output holds a placeholder for a value of the account
// that the definition does not say under a key of the platform.
func (k Kind) LeftOpen(f *fleet.Fleet, key, what, placeholder string) finding.Finding {
	where := "settings: {" + key + ": …}"
	if slices.Contains([]string{"region", "zone", "network", "address_pool"}, key) {
		where = key + ": …"
	}
	return finding.Finding{
		Rule: "placeholder-left", Severity: finding.Warning, Place: k.platformPlace(f), Path: "platforms." + k.Name,
		Message: fmt.Sprintf("%s wants %s, which the definition does not say, so the output says %s", k.Name, what, placeholder),
		Remedy:  fmt.Sprintf("add platforms: {%s: {%s}}, or replace it in the output", k.Name, where),
	}
}

// platformPlace is where the definition speaks of the platform, or its beginning.
func (k Kind) platformPlace(f *fleet.Fleet) fleet.Place {
	if said := f.Platform(k.Name); said != nil {
		return said.PlaceOf(fleet.Itself)
	}
	return f.PlaceOf(fleet.Itself)
}

func (n *needs) size() {
	_, named, err := sizing.Choose(n.f, n.m, n.kind.Name, nil)
	if err == nil {
		return
	}
	if len(sizing.Sizes(n.f, n.kind.Name)) == 0 {
		n.add("no-size-fits", finding.Error, n.kind.platformPlace(n.f), "platforms."+n.kind.Name+".sizes",
			fmt.Sprintf("%s has no public sizes, and the definition lists none", n.kind.Name),
			fmt.Sprintf("list those of your account: platforms: {%s: {sizes: {NAME: {cpus: 2, memory: 4GiB, disk: 20GiB}}}}", n.kind.Name))
		return
	}
	rule, remedy := "no-size-fits", "ask for less, or for a platform without public sizes list one that fits under platforms"
	var noFit *sizing.NoFitError
	switch {
	case !errors.As(err, &noFit):
		rule, remedy = "unknown-size", "name a size that the platform has"
	case named:
		rule, remedy = "size-too-small", "name a larger size, or remove it to get the best fit"
	}
	n.add(rule, finding.Error, n.m.Resources.PlaceOf(fleet.Itself), "resources", err.Error(), remedy)
}

// userData holds the data to the platform's limit. Secrets count as if they had
// 64 characters, since they are not read before rendering.
func (n *needs) userData() {
	if payload, err := n.payload(); err == nil { // else rendering says it
		if size := n.kind.Counted(payload); size > n.kind.Platform.UserData {
			parts := slices.Clone(payload.Parts)
			sort.SliceStable(parts, func(i, j int) bool { return parts[i].Size > parts[j].Size })
			var largest []string
			for _, part := range parts[:min(3, len(parts))] {
				largest = append(largest, fmt.Sprintf("%s (%d bytes)", part.Name, part.Size))
			}
			n.add("user-data-too-large", finding.Error, n.m.FirstBoot.PlaceOf(fleet.Itself), "first_boot",
				fmt.Sprintf("the first-boot data of %s takes %d bytes, and %s carries %d; the largest parts are %s", n.m.Name, size, n.kind.Name, n.kind.Platform.UserData, strings.Join(largest, ", ")),
				"let a script fetch the largest parts from where they are kept")
		}
	}
	// Where the definition speaks of the platform, the rule of that name has said it.
	if n.f.Platform(n.kind.Name) == nil && holdsSecret(n.m) {
		n.add("secret-in-platform-data", finding.Warning, n.m.FirstBoot.PlaceOf(fleet.Itself), "first_boot",
			fmt.Sprintf("the first-boot data of %s holds a secret, which whoever may look at the machine on %s can read", n.m.Name, n.kind.Name),
			"let the machine fetch the secret with its identity, or change it after the first boot")
	}
}

// payload renders the user data, unless it is so small that no limit is near: a
// text grows to six times its size at the most, when it is lines of a letter
// each that are set in and encoded.
func (n *needs) payload() (Payload, error) {
	size := 0
	for _, file := range n.m.FirstBoot.Files {
		size += len(file.Text) + len(file.Path)
	}
	for _, script := range n.m.FirstBoot.Scripts {
		size += len(script.Text)
	}
	words := len(n.m.FirstBoot.Packages) + len(n.m.FirstBoot.Services) + len(n.m.FirstBoot.Sources) + len(n.m.Users) + len(n.m.FirstBoot.Files) + len(n.m.Disks)
	if 6*size+100*words < n.kind.Platform.UserData/2 {
		return Payload{}, nil
	}
	return n.kind.UserData(WithoutSecrets(n.f), n.m)
}

// holdsSecret reports whether a secret, or a password's hash, goes into the first
// boot of a machine.
func holdsSecret(m *fleet.Machine) bool {
	return slices.ContainsFunc(m.FirstBoot.Files, func(f *fleet.File) bool { return f.HasSecrets() }) ||
		slices.ContainsFunc(m.FirstBoot.Scripts, func(s *fleet.Script) bool { return s.HasSecrets() }) ||
		slices.ContainsFunc(m.Users, func(u *fleet.User) bool { return u.Password != "" || u.PasswordHash != "" })
}

func (n *needs) names() {
	// Disks and firewalls have longer names there than here.
	long := []string{n.m.Name}
	for _, disk := range n.m.Disks {
		long = append(long, n.m.Name+"-"+disk.Name)
	}
	for _, set := range SetsOf(n.f, n.m) {
		long = append(long, n.f.Name+"-"+set)
	}
	for _, name := range long {
		if len(name) > n.kind.MaxName {
			n.add("name-shortened", finding.Advice, n.m.PlaceOf(fleet.Itself), "",
				fmt.Sprintf("%s takes names of %d characters, so %s becomes %s there", n.kind.Name, n.kind.MaxName, name, n.kind.NameOf(name)), "shorten the names that it is made of, if that should not be")
		}
	}
	if !n.kind.Names.MatchString(n.m.Name) {
		n.add("name-refused", finding.Error, n.m.PlaceOf(fleet.Itself), "",
			fmt.Sprintf("%s does not take the name %s", n.kind.Name, n.m.Name), "begin the name with a letter")
	}
	if n.kind.Name == "arm" && catalog.Of(n.f, n.m).Family.Name == catalog.Windows && len(n.m.HostName) > 15 {
		n.add("name-refused", finding.Error, n.m.PlaceOf("host_name"), "host_name", fmt.Sprintf("a Windows machine on arm has a host name of 15 characters at the most, and %s has %d", n.m.HostName, len(n.m.HostName)), "shorten it")
	}
}

func (n *needs) labels() {
	labels := n.kind.Labels(n.m)
	if len(labels) > n.kind.MaxLabels {
		n.add("label-refused", finding.Error, n.m.PlaceOf("labels"), "labels", fmt.Sprintf("machine %s has %d labels, and %s takes %d", n.m.Name, len(labels), n.kind.Name, n.kind.MaxLabels), "remove some")
	}
	for _, label := range labels {
		if len(label.Key) > n.kind.MaxLabelKey || len(label.Value) > n.kind.MaxLabelValue || !n.kind.LabelKeys.MatchString(label.Key) || !n.kind.LabelValues.MatchString(label.Value) {
			n.add("label-refused", finding.Error, n.m.PlaceOf("labels"), "labels",
				fmt.Sprintf("%s does not take the label %s of machine %s", n.kind.Name, label.Key, n.m.Name),
				fmt.Sprintf("keep keys below %d and values below %d characters, of letters, digits, - and _", n.kind.MaxLabelKey+1, n.kind.MaxLabelValue+1))
		}
	}
}

func (n *needs) disks() {
	for _, disk := range n.m.Disks {
		if got := n.kind.RoundDisk(disk.Size); got != disk.Size && !(disk.IsRoot() && n.kind.Name == "droplet") {
			n.add("disk-rounded", finding.Advice, disk.PlaceOf("size"), "machines."+n.m.Name+".disks."+disk.Name,
				fmt.Sprintf("disk %s of %s asks for %v, and %s sells %v", disk.Name, n.m.Name, disk.Size, n.kind.Name, got), "nothing has to be done; the larger one is asked for")
		}
	}
}

func (n *needs) logins() {
	for _, user := range n.m.Users {
		if slices.Contains(n.kind.ReservedLogins, user.Name) {
			n.add("login-reserved", finding.Error, user.PlaceOf(fleet.Itself), "machines."+n.m.Name+".users."+user.Name, fmt.Sprintf("%s refuses the login %s", n.kind.Name, user.Name), "choose another name")
		}
	}
	if n.m.SSH.PasswordLogin && n.m.PublicAddress {
		n.add("password-login-on-cloud", finding.Warning, n.m.SSH.PlaceOf("password_login"), "machines."+n.m.Name+".ssh.password_login",
			fmt.Sprintf("machine %s takes passwords over SSH at a public address, which %s's images forbid for good reason", n.m.Name, n.kind.Name), "let users log in by key")
	}
}

// Overrides says per machine which size it gets and what becomes of its ports,
// beside what its system reads less of.
func (k Kind) Overrides(job *render.Job, m *fleet.Machine) []render.Fate {
	fates := slices.Clone(cloudinit.Overrides(job, m))
	if o, why, err := k.Size(job, m); err == nil {
		how := fmt.Sprintf("size %s, %s: %d cpus and %v", o.Size.Name, why, o.CPUs, o.Memory)
		fates = append(fates, render.Adapt(how, "resources.cpus", "resources.memory")...)
	}
	if !m.PublicAddress {
		fates = append(fates, render.LeaveOut("there is no host to listen on, and the machine has no public address", "port.machine", "port.protocol")...)
	}
	return fates
}

// Fates are what becomes of fields on every cloud, before a target's own.
func Fates() []render.Fate {
	const own = "the cloud's network hands out what the machine needs"
	return render.Merge(cloudinit.Fates(),
		render.Carry("fleet.fleet", "machine.image", "image.ids", "machine.labels", "machine.public_address", "machine.firewall", "allowance.port", "allowance.from",
			"disk.size", "disk.keep", "nic.address", "platform.region", "platform.zone", "platform.network", "platform.settings", "machine.region", "machine.zone", "platform.size"),
		render.Adapt("the size that is named, or the closest fit", "resources.cpus", "resources.memory"),
		render.Adapt("an allow rule for the inner port, open to everybody, unless a firewall of the machine speaks of the port", "port.machine", "port.protocol"),
		render.Adapt("it is the device's order and link inside the machine", "disk.label"),
		render.LeaveOut("there is no host to listen on", "port.host", "port.listen"),
		render.LeaveOut(own, "network.dns", "network.search", "network.gateway", "network.dhcp_first", "network.dhcp_last", "nic.also", "route.to", "route.via", "nic.hardware_address"),
		render.LeaveOut("the cloud's machines have one kind of it", "nic.model", "disk.bus", "disk.format", "firmware.kind", "firmware.secure_boot", "firmware.tpm", "machine.clock",
			"resources.priority", "console.kind", "console.protocol", "console.listen", "console.port", "console.resolution", "console.password"),
		render.LeaveOut("a host has it, and a cloud has none", "share.host", "share.machine", "share.read_only", "medium.file", "medium.boot_first", "medium.eject",
			"machine.autostart", "machine.autostart_delay", "network.bridge", "first_boot.guest_tools"),
		render.LeaveOut("the cloud boots its own copy, named in ids", "image.file", "image.sha256", "image.arch", "disk.start"),
		render.LeaveOut("names are made in DNS, not here", "machine.names"),
		render.LeaveOut("the platform has its own public sizes", "size.cpus", "size.memory", "size.disk"),
		render.LeaveOut("the platform's public addresses come from one pool", "platform.address_pool"),
		render.LeaveOut("a note for people, which the platform does not keep", "fleet.about", "machine.about"),
		render.Carry("disk.label"),
	)
}
