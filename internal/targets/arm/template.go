package arm

import (
	"fmt"
	"slices"
	"strings"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/catalog"
	"stavren.example/stavren/internal/ordered"
	"stavren.example/stavren/internal/targets/cloud"
	"stavren.example/stavren/render"
)

// Versions of the resource providers' interfaces.
const (
	networkVersion = "2023-09-01"
	computeVersion = "2023-09-01"
	valuesSchema   = "https://schema.management.azure.com/schemas/2019-04-01/deploymentParameters.json#"
	schema         = "https://schema.management.azure.com/schemas/2019-04-01/deploymentTemplate.json#"
)

// template is put together resource by resource.
type template struct {
	job      *render.Job
	machines []*fleet.Machine
	// secrets are values of parameters, kept apart from the template.
	parameters, secrets, outputs *ordered.Map
	resources                    ordered.List
}

func newTemplate(job *render.Job) *template {
	return &template{job: job, machines: job.Machines(), parameters: ordered.Of(), secrets: ordered.Of(), outputs: ordered.Of()}
}

// add adds a resource. Names are unique within the fleet's own group.
func (t *template) add(kind, version, name string, after ordered.List, pairs ...any) {
	r := ordered.Of("type", kind, "apiVersion", version, "name", name, "location", "[parameters('location')]")
	r.Set("dependsOn", after)
	for i := 0; i+1 < len(pairs); i += 2 {
		r.Set(pairs[i].(string), pairs[i+1])
	}
	t.resources = append(t.resources, r)
}

// id is an expression for a resource's identifier. Names hold no quotes.
func id(kind string, names ...string) string {
	return "[resourceId('" + kind + "', '" + strings.Join(names, "', '") + "')]"
}

func idOf(kind string, names ...string) *ordered.Map { return ordered.Of("id", id(kind, names...)) }

// literal keeps a text that begins with a bracket from being an expression.
func literal(text string) string {
	if strings.HasPrefix(text, "[") {
		return "[" + text
	}
	return text
}

const (
	groupKind     = "Microsoft.Network/networkSecurityGroups"
	networkKind   = "Microsoft.Network/virtualNetworks"
	subnetKind    = "Microsoft.Network/virtualNetworks/subnets"
	addressKind   = "Microsoft.Network/publicIPAddresses"
	interfaceKind = "Microsoft.Network/networkInterfaces"
	diskKind      = "Microsoft.Compute/disks"
	machineKind   = "Microsoft.Compute/virtualMachines"
	identityKind  = "Microsoft.ManagedIdentity/userAssignedIdentities"
)

func (t *template) render() ([]render.File, error) {
	f := t.job.Fleet
	location := ordered.Of("type", "string", "defaultValue", kind.Place(f, nil, "region"), "metadata", ordered.Of("description", "Region of all resources"))
	t.parameters.Set("location", location)
	made := map[string]bool{}
	for _, m := range t.machines {
		if name := groupOf(f, m); !made[name] {
			made[name] = true
			t.group(name, m)
		}
	}
	if t.ownNetwork() {
		t.network()
	}
	prepared, err := kind.Prepare(t.job, t.machines)
	if err != nil {
		return nil, err
	}
	for i, m := range t.machines {
		if err := t.machine(m, prepared[i]); err != nil {
			return nil, fmt.Errorf("machine %s: %w", m.Name, err)
		}
	}
	document := ordered.Of("$schema", schema, "contentVersion", "1.0.0.0", "parameters", t.parameters, "resources", t.resources, "outputs", t.outputs)
	data, err := document.JSON()
	if err != nil {
		return nil, err
	}
	files := []render.File{{Name: f.Name + ".arm.json", Data: data, Mode: 0o644}}
	if t.secrets.Len() > 0 {
		values, err := ordered.Of("$schema", valuesSchema, "contentVersion", "1.0.0.0", "parameters", t.secrets).JSON()
		if err != nil {
			return nil, err
		}
		files = append(files, render.File{Name: f.Name + valuesFile, Data: values, Mode: 0o600})
	}
	return files, nil
}

// valuesFile holds what the template itself must not: parameters that are secret.
const valuesFile = ".arm.parameters.json"

func (t *template) ownNetwork() bool { return kind.Value(t.job.Fleet, nil, "network") == "" }

// groupOf names the security group for the sets that hold for a machine.
func groupOf(f *fleet.Fleet, m *fleet.Machine) string {
	return catalog.Shorten("firewall-"+strings.Join(cloud.SetsOf(f, m), "-and-"), 80)
}

// group renders a security group. Each rule has a priority of its own from 100
// on, in the order of the definition; only the last one, which refuses what is
// left, is the platform's.
func (t *template) group(name string, m *fleet.Machine) {
	f := t.job.Fleet
	var rules ordered.List
	names := cloud.SetsOf(f, m)
	for _, set := range cloud.Sets(f, []*fleet.Machine{m}) {
		if !slices.Contains(names, set.Name) {
			continue
		}
		for _, rule := range set.Rules {
			ports := "*"
			switch {
			case rule.First > 0 && rule.First == rule.Last:
				ports = fmt.Sprint(rule.First)
			case rule.First > 0:
				ports = fmt.Sprintf("%d-%d", rule.First, rule.Last)
			}
			protocol := map[fleet.Protocol]string{fleet.TCP: "Tcp", fleet.UDP: "Udp", fleet.ICMP: "Icmp", fleet.AnyProtocol: "*"}[rule.Protocol]
			properties := ordered.Of("priority", 100+10*len(rules), "direction", "Inbound", "access", "Allow", "protocol", protocol,
				"sourcePortRange", "*", "destinationAddressPrefix", "*", "destinationPortRange", ports)
			switch {
			case len(rule.From) == len(cloud.Everywhere) && rule.From[0] == cloud.Everywhere[0]:
				properties.Set("sourceAddressPrefix", "*")
			case len(rule.From) == 1:
				properties.Set("sourceAddressPrefix", rule.From[0])
			default:
				properties.Set("sourceAddressPrefixes", rule.From)
			}
			rules = append(rules, ordered.Of("name", catalog.Shorten(fmt.Sprintf("%s-%d", set.Name, len(rules)+1), 80), "properties", properties))
		}
	}
	// Machines of one network may talk to each other by the platform's default
	// rules; ours is default-deny inward.
	rules = append(rules, ordered.Of("name", "refuse-the-rest", "properties", ordered.Of("priority", 4096, "direction", "Inbound", "access", "Deny", "protocol", "*",
		"sourcePortRange", "*", "destinationAddressPrefix", "*", "destinationPortRange", "*", "sourceAddressPrefix", "*")))
	t.add(groupKind, networkVersion, name, nil, "properties", ordered.Of("securityRules", rules))
}

// network renders one virtual network with a subnet for each of the fleet's.
func (t *template) network() {
	var prefixes []string
	var subnets ordered.List
	for _, network := range cloud.UsedNetworks(t.job.Fleet, t.machines) {
		prefixes = append(prefixes, network.Subnet.String())
		subnets = append(subnets, ordered.Of("name", network.Name, "properties", ordered.Of("addressPrefix", network.Subnet.String())))
	}
	t.add(networkKind, networkVersion, t.job.Fleet.Name, nil, "properties", ordered.Of("addressSpace", ordered.Of("addressPrefixes", prefixes), "subnets", subnets))
}

func (t *template) machine(m *fleet.Machine, prepared cloud.Prepared) error {
	f := t.job.Fleet
	size, payload := prepared.Size, prepared.Payload
	name := kind.NameOf(m.Name)
	var zones []string
	if zone := kind.Value(f, m, "zone"); zone != "" {
		zones = []string{zone}
	}
	var after, interfaces ordered.List
	for _, nic := range m.NICs {
		t.networkInterface(m, nic, zones)
		address := name + "-" + nic.Name
		after = append(after, id(interfaceKind, address))
		interfaces = append(interfaces, ordered.Of("id", id(interfaceKind, address), "properties", ordered.Of("primary", nic.Primary)))
	}
	root := m.Disks[0]
	storage := ordered.Of("imageReference", imageReference(kind.ImageID(f, m)),
		"osDisk", ordered.Of("name", name+"-root", "createOption", "FromImage", "diskSizeGB", kind.DiskSize(root),
			"deleteOption", deleteOption(root), "managedDisk", ordered.Of("storageAccountType", class(root))))
	var dataDisks ordered.List
	for _, disk := range m.Disks {
		if disk.IsRoot() {
			continue
		}
		diskName := name + "-" + disk.Name
		t.add(diskKind, computeVersion, diskName, nil, "zones", zones, "sku", ordered.Of("name", class(disk)),
			"properties", ordered.Of("creationData", ordered.Of("createOption", "Empty"), "diskSizeGB", kind.DiskSize(disk)))
		after = append(after, id(diskKind, diskName))
		dataDisks = append(dataDisks, ordered.Of("lun", place(m, disk), "createOption", "Attach", "deleteOption", deleteOption(disk), "managedDisk", idOf(diskKind, diskName)))
	}
	storage.Set("dataDisks", dataDisks)

	properties := ordered.Of("hardwareProfile", ordered.Of("vmSize", size.Size.Name), "storageProfile", storage, "osProfile", t.osProfile(m, payload),
		"networkProfile", ordered.Of("networkInterfaces", interfaces))
	if m.Firmware.SecureBoot || m.Firmware.TPM {
		properties.Set("securityProfile", ordered.Of("securityType", "TrustedLaunch",
			"uefiSettings", ordered.Of("secureBootEnabled", m.Firmware.SecureBoot, "vTpmEnabled", m.Firmware.TPM)))
	}
	if m.Interruptible {
		properties.Set("priority", "Spot")
		properties.Set("evictionPolicy", "Deallocate")
		properties.Set("billingProfile", ordered.Of("maxPrice", -1))
	}
	var identity *ordered.Map
	if m.Identity.Account != "" {
		identity = ordered.Of("type", "UserAssigned", "userAssignedIdentities", ordered.Of(id(identityKind, m.Identity.Account), ordered.Keep(ordered.Of())))
	}
	tags := ordered.Of()
	for _, label := range kind.Labels(m) {
		tags.Set(label.Key, ordered.Keep(literal(label.Value)))
	}
	t.add(machineKind, computeVersion, name, after, "zones", zones, "tags", tags, "identity", identity, "properties", properties)
	t.outputs.Set(m.Name+"-address", ordered.Of("type", "string",
		"value", fmt.Sprintf("[reference(resourceId('%s', '%s-%s')).ipConfigurations[0].properties.privateIPAddress]", interfaceKind, name, cloud.Primary(m).Name)))
	if m.PublicAddress {
		t.outputs.Set(m.Name+"-public-address", ordered.Of("type", "string", "value", fmt.Sprintf("[reference(resourceId('%s', '%s')).ipAddress]", addressKind, name)))
	}
	return nil
}

func (t *template) networkInterface(m *fleet.Machine, nic *fleet.NIC, zones []string) {
	f := t.job.Fleet
	name := kind.NameOf(m.Name)
	after := ordered.List{id(groupKind, groupOf(f, m))}
	var subnet any = ordered.Of("id", literal(kind.Value(f, m, "network")))
	if t.ownNetwork() {
		after = append(after, id(networkKind, f.Name))
		subnet = idOf(subnetKind, f.Name, nic.Network)
	}
	config := ordered.Of("subnet", subnet)
	if nic.Address.IsValid() {
		config.Set("privateIPAllocationMethod", "Static")
		config.Set("privateIPAddress", nic.Address.String())
	} else {
		config.Set("privateIPAllocationMethod", "Dynamic")
	}
	if m.PublicAddress && nic == cloud.Primary(m) {
		t.add(addressKind, networkVersion, name, nil, "zones", zones, "sku", ordered.Of("name", "Standard"), "properties", ordered.Of("publicIPAllocationMethod", "Static"))
		after = append(after, id(addressKind, name))
		config.Set("publicIPAddress", idOf(addressKind, name))
	}
	t.add(interfaceKind, networkVersion, name+"-"+nic.Name, after, "properties", ordered.Of(
		"networkSecurityGroup", idOf(groupKind, groupOf(f, m)),
		"ipConfigurations", ordered.List{ordered.Of("name", nic.Name, "properties", config)}))
}

// osProfile names the one account that the platform makes; the first-boot data
// makes the others. Windows cannot do without a password, which is a parameter.
func (t *template) osProfile(m *fleet.Machine, payload cloud.Payload) *ordered.Map {
	f := t.job.Fleet
	profile := ordered.Of("computerName", m.HostName)
	user, key := cloud.AdminKey(f, m)
	if catalog.Of(f, m).Family.Name == catalog.Windows {
		admin := "tidewarden"
		if len(m.Users) > 0 {
			admin = m.Users[0].Name
		}
		parameter := parameterName(m, "password")
		t.parameters.Set(parameter, ordered.Of("type", "securestring", "metadata", ordered.Of("description", "Password of "+admin+" on "+m.Name)))
		profile.Set("adminUsername", admin)
		profile.Set("adminPassword", "[parameters('"+parameter+"')]")
	} else if user != nil {
		profile.Set("adminUsername", user.Name)
		profile.Set("linuxConfiguration", ordered.Of("disablePasswordAuthentication", true, "ssh", ordered.Of("publicKeys", ordered.List{
			ordered.Of("path", "/home/"+user.Name+"/.ssh/authorized_keys", "keyData", cloud.KeyText(key))})))
	}
	if !payload.Secret {
		profile.Set("customData", payload.Base64())
		return profile
	}
	parameter := parameterName(m, "first_boot")
	t.parameters.Set(parameter, ordered.Of("type", "securestring", "metadata", ordered.Of("description", "First-boot data of "+m.Name+", which holds a secret; base64")))
	t.secrets.Set(parameter, ordered.Of("value", payload.Base64()))
	profile.Set("customData", "[parameters('"+parameter+"')]")
	return profile
}

func parameterName(m *fleet.Machine, what string) string {
	return strings.ReplaceAll(m.Name, "-", "_") + "_" + what
}

// imageReference reads an identifier: publisher:offer:sku:version, or the path of
// an image of one's own.
func imageReference(name string) *ordered.Map {
	if parts := strings.Split(name, ":"); len(parts) == 4 {
		return ordered.Of("publisher", parts[0], "offer", parts[1], "sku", parts[2], "version", parts[3])
	}
	return ordered.Of("id", literal(name))
}

func deleteOption(disk *fleet.Disk) string {
	if disk.Keep {
		return "Detach"
	}
	return "Delete"
}

func class(disk *fleet.Disk) string {
	if disk.Speed == fleet.Fast {
		return "Premium_LRS"
	}
	return "StandardSSD_LRS"
}
