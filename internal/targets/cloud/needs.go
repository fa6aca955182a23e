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
	"stavren.example/stavren/internal/nearest"
	"stavren.example/stavren/internal/sizing"
)

// needs collects findings about one machine.
type needs struct {
	finding.Report
	*Cloud
	f *fleet.Fleet
	m *fleet.Machine
}

// Needs reports what keeps a machine from being submitted, and what would surprise
// the person who submits it.
func (c *Cloud) Needs(f *fleet.Fleet, m *fleet.Machine) []finding.Finding {
	n := &needs{Report: finding.Report{Machine: m.Name}, Cloud: c, f: f, m: m}
	n.image()
	n.settings()
	n.size()
	n.userData()
	n.names()
	n.labels()
	n.disks()
	n.logins()
	n.interfaces()
	n.windows()
	n.wayOut()
	n.networks()
	n.keys()
	n.addresses()
	n.freeBSDDisks()
	return n.Findings
}

func (n *needs) image() {
	image, id := n.f.Image(n.m.Image), n.ImageOf(n.f, n.m)
	if image != nil && strings.HasPrefix(id, Placeholder) {
		n.Add("placeholder-left", finding.Warning, finding.OfImage(image, "ids"),
			"image %s does not say what %s calls it, so the output has %s", image.Name, n.Name, id).
			Remedy = fmt.Sprintf("add ids: {%s: %q} or another of its images, or replace it in the output", n.Name,
			n.ImageID)
	}
}

// unknownSettings reports settings of the definition that the platform doesn't have.
func (n *needs) unknownSettings() {
	given := n.f.Platform(n.Name)
	if given == nil {
		return
	}
	var known []string
	for _, setting := range n.Settings {
		if !IsBuiltIn(setting.Key) {
			known = append(known, setting.Key)
		}
	}
	for _, setting := range given.Settings {
		if slices.Contains(known, setting.Key) || n.SettingPrefix != "" && strings.HasPrefix(setting.Key, n.SettingPrefix) {
			continue
		}
		remedy := "remove it"
		if len(known) > 0 {
			remedy = nearest.Remedy(setting.Key, known)
		}
		n.Add("unknown-setting", finding.Warning, finding.OfPlatform(n.f, n.Name, "settings"), "%s has no setting %q", n.Name,
			setting.Key).
			Remedy = remedy
	}
}

func (n *needs) settings() {
	n.unknownSettings()
	for _, setting := range n.Settings {
		if setting.Needed != nil && setting.Needed(n.f, n.m) && n.Value(n.f, n.m, setting.Key) == "" {
			n.Findings = append(n.Findings, n.Missing(n.f, n.m, setting, n.ValueOrPlaceholder(n.f, n.m, setting.Key)))
		}
	}
}

// Missing reports that the output has a placeholder for a setting.
func (c *Cloud) Missing(f *fleet.Fleet, m *fleet.Machine, setting Setting, placeholder string) finding.Finding {
	where := "settings: {" + setting.Key + ": …}"
	if IsBuiltIn(setting.Key) {
		where = setting.Key + ": …"
	}
	return finding.Finding{
		Rule: "placeholder-left", Severity: finding.Warning, Machine: m.Name,
		Location: finding.OfPlatform(f, c.Name, fleet.Itself),
		Message: fmt.Sprintf("%s needs %s, which the definition does not give, so the output has %s", c.Name,
			setting.What, placeholder),
		Remedy: fmt.Sprintf("add platforms: {%s: {%s}}, or replace it in the output", c.Name, where),
	}
}

func (n *needs) size() {
	offer, named, err := sizing.Choose(n.f, n.m, n.market, nil)
	if err == nil {
		if offer.Unlisted {
			n.Add("unknown-size", finding.Warning, finding.OfResources(n.m, fleet.Itself),
				"the size %s of machine %s is not in the list of %s", offer.Size.Name, n.m.Name, n.Name).
				Remedy = nearest.Remedy(offer.Size.Name, n.market.Names(n.f)) + ", or accept it if the platform has it"
		}
		return
	}
	if len(n.market.SizesFor(n.f)) == 0 {
		n.Add("no-size-fits", finding.Error, finding.OfPlatform(n.f, n.Name, "sizes"),
			"%s has no public sizes, and the definition lists none", n.Name).
			Remedy = fmt.Sprintf("list those of your account: platforms: {%s: {sizes: {NAME: {cpus: 2, memory: "+
			"4GiB, disk: 20GiB}}}}", n.Name)
		return
	}
	rule, remedy := "no-size-fits",
		"ask for less, or for a platform without public sizes list one that fits under platforms"
	var noFit *sizing.NoFitError
	switch {
	case !errors.As(err, &noFit):
	case named:
		rule, remedy = "size-too-small", "name a larger size, or remove it to get the best fit"
	}
	n.Add(rule, finding.Error, finding.OfResources(n.m, fleet.Itself), "%v", err).Remedy = remedy
}

// largestParts is how many parts of user data that is too large are named.
const largestParts = 3

// userData reports user data beyond the platform's limit. Secrets count as 64
// characters, since they are not read before rendering.
func (n *needs) userData() {
	at := finding.OfFirstBoot(n.m, fleet.Itself)
	payload, err := n.payload()
	// If it can't be rendered, rendering says why.
	if size := n.Counted(n.f, n.m, payload); err == nil && size > n.FirstBoot.Limit {
		parts := slices.Clone(payload.Parts)
		sort.SliceStable(parts, func(i, j int) bool { return parts[i].Size > parts[j].Size })
		var largest []string
		for _, part := range parts[:min(largestParts, len(parts))] {
			largest = append(largest, fmt.Sprintf("%s (%d bytes)", part.Name, part.Size))
		}
		n.Add("user-data-too-large", finding.Error, at,
			"the first-boot data of machine %s has %d bytes; the limit of %s is %d; the largest parts are %s",
			n.m.Name, size, n.Name, n.FirstBoot.Limit, strings.Join(largest, ", ")).
			Remedy = "let a script fetch the largest parts from where they are kept"
	}
	// If the definition has settings for the platform, check reports this itself.
	if n.f.Platform(n.Name) == nil && holdsSecret(n.m) {
		n.Add("secret-in-platform-data", finding.Warning, at,
			"the first-boot data of machine %s holds a secret, which anyone who can look at the machine on %s can read",
			n.m.Name, n.Name).
			Remedy = "let the machine fetch the secret with its identity, or change it after the first boot"
	}
}

// payload renders the user data unless it is too small to reach the limit. A text
// grows at most sixfold, if it consists of one-letter lines that are indented and
// encoded.
func (n *needs) payload() (Payload, error) {
	boot := n.m.FirstBoot
	size := 0
	for _, file := range boot.Files {
		size += len(file.Text) + len(file.Path)
	}
	for _, script := range boot.Scripts {
		size += len(script.Text)
	}
	items := len(boot.Packages) + len(boot.Services) + len(boot.Sources) + len(n.m.Users) + len(boot.Files) +
		len(n.m.Disks)
	if 6*size+100*items < n.FirstBoot.Limit/2 {
		return Payload{}, nil
	}
	return n.UserData(WithoutSecrets(n.f), n.m)
}

// holdsSecret reports whether a machine's first boot gets a secret or the hash of a
// password.
func holdsSecret(m *fleet.Machine) bool {
	return slices.ContainsFunc(m.FirstBoot.Files, func(f *fleet.File) bool { return f.HasSecrets() }) ||
		slices.ContainsFunc(m.FirstBoot.Scripts, func(s *fleet.Script) bool { return s.HasSecrets() }) ||
		slices.ContainsFunc(m.Users, func(u *fleet.User) bool { return u.Password != "" || u.PasswordHash != "" })
}

func (n *needs) names() {
	names := []string{n.m.Name}
	for _, disk := range n.m.Disks {
		names = append(names, n.m.Name+"-"+disk.Name)
	}
	for _, set := range SetsOf(n.f, n.m) {
		names = append(names, n.f.Name+"-"+set)
	}
	for _, name := range names {
		if len(name) > n.Names.Limit {
			n.Add("name-shortened", finding.Advice, finding.OfMachine(n.m, fleet.Itself),
				"the limit of %s for names is %d characters, so %s becomes %s", n.Name, n.Names.Limit, name,
				n.NameOf(name)).
				Remedy = "shorten the names that it consists of, if you need them there"
		}
	}
	if !n.Names.Valid(n.m.Name) {
		n.Add("name-refused", finding.Error, finding.OfMachine(n.m, fleet.Itself), "%s does not accept the name %s",
			n.Name, n.m.Name).
			Remedy = "start the name with a letter"
	}
	limit := n.WindowsHostName
	isWindows := catalog.Of(n.f, n.m).Family.Class() == catalog.ClassWindows
	if limit > 0 && isWindows && len(n.m.HostName) > limit {
		n.Add("name-refused", finding.Error, finding.OfMachine(n.m, "host_name"),
			"the limit for host names of Windows machines on %s is %d characters; %s has %d", n.Name, limit,
			n.m.HostName, len(n.m.HostName)).
			Remedy = "shorten it"
	}
}

func (n *needs) labels() {
	at := finding.OfMachine(n.m, "labels")
	labels, rules := n.LabelsOf(n.m), n.Labels
	if len(labels) > rules.Limit {
		n.Add("label-refused", finding.Error, at, "machine %s has %d labels; the limit of %s is %d", n.m.Name,
			len(labels), n.Name, rules.Limit).
			Remedy = "remove some"
	}
	for _, label := range labels {
		if rules.Reserved != nil && rules.Reserved(label.Key) {
			n.Add("label-refused", finding.Error, at, "%s sets the label %s of machine %s itself", n.Name, label.Key,
				n.m.Name).
				Remedy = "give the label another name"
			continue
		}
		if len(label.Key) > rules.KeyLimit || len(label.Value) > rules.ValueLimit || !rules.ValidKey(label.Key) ||
			!rules.ValidValue(label.Value) {
			n.Add("label-refused", finding.Error, at, "%s does not accept the label %s of machine %s", n.Name,
				label.Key, n.m.Name).
				Remedy = fmt.Sprintf("use at most %d characters for keys and %d for values, from letters, digits, "+
				"- and _", rules.KeyLimit, rules.ValueLimit)
		}
	}
}

func (n *needs) disks() {
	system := catalog.Of(n.f, n.m)
	for _, disk := range n.m.Disks {
		if sold := n.Disks.Round(system, disk); sold != disk.Size && !(disk.IsRoot() && n.Disks.FixedRoot) {
			n.Add("disk-rounded", finding.Advice, finding.OfDisk(n.m, disk, "size"),
				"disk %s of machine %s asks for %v, but %s sells %v", disk.Name, n.m.Name, disk.Size, n.Name, sold).
				Remedy = "nothing; the output asks for the larger one"
		}
	}
}

func (n *needs) logins() {
	// Only one account is the platform's work; the first-boot data makes the others.
	if user, _ := AdminKey(n.f, n.m); user != nil && slices.Contains(n.ReservedLogins, user.Name) {
		n.Add("login-reserved", finding.Error, finding.OfUser(n.m, user, fleet.Itself), "%s refuses the login %s", n.Name,
			user.Name).
			Remedy = "choose another name"
	}
	if n.m.SSH.PasswordLogin && n.m.PublicAddress {
		n.Add("password-login-on-cloud", finding.Warning, finding.OfSSH(n.m, "password_login"),
			"machine %s accepts passwords over SSH at a public address, which images of %s forbid by default", n.m.Name,
			n.Name).
			Remedy = "let users log in with keys"
	}
}

// interfaces reports what a machine with several interfaces loses.
func (n *needs) interfaces() {
	if len(n.m.NICs) > 1 && n.OneInterface {
		n.Add("interfaces-left-out", finding.Warning, finding.OfMachine(n.m, "nics"),
			"machine %s has %d interfaces, and the output for %s has only %s", n.m.Name, len(n.m.NICs), n.Name,
			Primary(n.m).Name).
			Remedy = "attach the others by hand, give it one, or accept this with a reason"
	}
}

// windows reports first-boot data that the makers' images of Windows don't read.
func (n *needs) windows() {
	if catalog.Of(n.f, n.m).Family.Class() == catalog.ClassWindows && !n.ReadsWindows &&
		n.FirstBoot.WindowsScript == nil {
		n.Add("first-boot-unread", finding.Warning, finding.OfMachine(n.m, "image"),
			"machine %s gets first-boot data for cloudbase-init, which the images of Windows that %s offers lack", n.m.Name,
			n.Name).
			Remedy = "use an image that cloudbase-init was added to, and accept this with a reason"
	}
}

// wayOut reports a machine that fetches something where only machines with public addresses
// get out.
func (n *needs) wayOut() {
	network := n.f.Network(Primary(n.m).Network)
	what := n.m.Fetches()
	if !n.ClosedInside || n.m.PublicAddress || what == "" || network == nil || !LeadsOut(network) {
		return
	}
	n.Add("no-way-out", finding.Warning, finding.OfFirstBoot(n.m, fleet.Itself),
		"machine %s %s, but without a public address it gets out on %s only by a gateway that its network has to have",
		n.m.Name, what, n.Name).
		Remedy = "give it a public address, or put it on a network with such a gateway, named under platforms, and accept this"
}

// keys reports the key of the platform's own account if it is of a type that is refused.
func (n *needs) keys() {
	types := n.KeyTypes
	if catalog.Of(n.f, n.m).Family.Class() == catalog.ClassWindows {
		types = n.WindowsKeyTypes
	}
	user, key := AdminKey(n.f, n.m)
	if key == nil || len(types) == 0 {
		return
	}
	kind, _, _ := strings.Cut(KeyText(key), " ")
	if !slices.Contains(types, kind) {
		n.Add("key-refused", finding.Error, finding.OfUser(n.m, user, "keys"),
			"%s takes no key of type %s for machine %s, and key %s is one", n.Name, kind, n.m.Name, key.Name).
			Remedy = "put a key of one of these types first: " + strings.Join(types, ", ")
	}
}

// addresses reports a fixed address that the platform doesn't assign, which is then wrong
// wherever a text of the definition has it.
func (n *needs) addresses() {
	if n.AssignsAddress == nil {
		return
	}
	for _, nic := range n.m.NICs {
		if nic.Address.IsValid() && !n.AssignsAddress(n.Cloud, n.f, n.m, nic) {
			n.Add("address-not-assigned", finding.Warning, finding.OfNIC(n.m, nic, "address"),
				"machine %s has the address %v, but %s gives it another one", n.m.Name, nic.Address, n.Name).
				Remedy = "let texts name machines rather than addresses, or accept this with a reason"
		}
	}
}

// freeBSDDisks reports data disks that FreeBSD can't tell apart here: it looks for serials,
// which disks of clouds don't have, or not ours.
func (n *needs) freeBSDDisks() {
	if catalog.Of(n.f, n.m).Family.Class() != catalog.ClassFreeBSD || n.FirstBoot.Environment.FindOnFreeBSD != nil {
		return
	}
	for _, disk := range n.m.Disks {
		if disk.FileSystem != "" {
			n.Add("disk-left-empty", finding.Warning, finding.OfDisk(n.m, disk, "filesystem"),
				"disk %s of machine %s stays empty, since FreeBSD can't tell which one it is on %s", disk.Name, n.m.Name, n.Name).
				Remedy = "format and mount it by a script of your own"
			return
		}
	}
}

// networks reports a network that is one with another here, so that machines on both reach
// each other, by the first machine on it.
func (n *needs) networks() {
	network := n.f.Network(Primary(n.m).Network)
	if !n.JoinsNetworks || network == nil || !LeadsOut(network) || n.f.OnNetwork(network.Name)[0].Machine != n.m {
		return
	}
	for _, other := range n.f.Networks {
		if other == network {
			return // the first of them is reported by none
		}
		beside := n.f.OnNetwork(other.Name)
		if LeadsOut(other) && len(beside) > 0 &&
			n.Value(n.f, beside[0].Machine, "network") == n.Value(n.f, n.m, "network") {
			n.Add("networks-joined", finding.Advice, finding.OfNetwork(network, fleet.Itself),
				"networks %s and %s are one on %s, so that their machines reach each other", other.Name, network.Name, n.Name).
				Remedy = "name another network for the machines of one of them, under their platforms"
			return
		}
	}
}
