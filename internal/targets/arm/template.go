package arm

import (
	"fmt"
	"strings"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/catalog"
	"stavren.example/stavren/internal/ordered"
	"stavren.example/stavren/internal/targets/cloud"
	"stavren.example/stavren/render"
)

// Versions of the resource providers' interfaces.
const (
	networkVersion  = "2023-09-01"
	machineVersion  = "2023-09-01"
	diskVersion     = "2023-10-02" // disks have versions of their own
	identityVersion = "2023-01-31"
	valuesSchema    = "https://schema.management.azure.com/schemas/2019-04-01/deploymentParameters.json#"
	schema          = "https://schema.management.azure.com/schemas/2019-04-01/deploymentTemplate.json#"
)

// template is put together resource by resource.
type template struct {
	job      *render.Job
	machines []*fleet.Machine
	// secrets are the values of secret parameters, which go to a file of their own.
	parameters, secrets, outputs *ordered.Map
	resources                    ordered.List
	names                        cloud.Namer
}

// The longest names of some kinds in characters ("Naming rules and restrictions for Azure
// resources").
const (
	longestName       = 80
	longestOutputName = 255
)

func newTemplate(job *render.Job) *template {
	return &template{job: job, machines: job.Machines(), parameters: ordered.Of(), secrets: ordered.Of(),
		outputs: ordered.Of()}
}

// add adds a resource. Names are unique within the fleet's resource group.
func (t *template) add(resourceType, version, name string, after ordered.List, pairs ...any) {
	r := ordered.Of("type", resourceType, "apiVersion", version, "name", name, "location", "[parameters('location')]")
	r.Set("dependsOn", after)
	for i := 0; i+1 < len(pairs); i += 2 {
		r.Set(pairs[i].(string), pairs[i+1])
	}
	t.resources = append(t.resources, r)
}

// id returns an expression for the id of a resource. Names have no quotes.
func id(resourceType string, names ...string) string {
	return "[resourceId('" + resourceType + "', '" + strings.Join(names, "', '") + "')]"
}

func idOf(resourceType string, names ...string) *ordered.Map {
	return ordered.Of("id", id(resourceType, names...))
}

// literal keeps a text that starts with a bracket from being an expression.
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
	location := ordered.Of("type", "string", "defaultValue", platform.ValueOrPlaceholder(f, nil, "region"), "metadata",
		ordered.Of("description", "Region of all resources"))
	t.parameters.Set("location", location)
	t.groups()
	t.identities()
	t.network()
	prepared, err := platform.Prepare(t.job, t.machines)
	if err != nil {
		return nil, err
	}
	for i, m := range t.machines {
		if err := t.machine(m, prepared[i]); err != nil {
			return nil, fmt.Errorf("machine %s: %w", m.Name, err)
		}
	}
	document := ordered.Of("$schema", schema, "contentVersion", "1.0.0.0", "parameters", t.parameters, "resources",
		t.resources, "outputs", t.outputs)
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

// valuesFile holds what the template itself must not hold: secret parameters.
const valuesFile = ".arm.parameters.json"

func (t *template) machine(m *fleet.Machine, prepared cloud.Prepared) error {
	f := t.job.Fleet
	name := platform.NameOf(m.Name)
	var zones []string
	if zone := platform.Value(f, m, "zone"); zone != "" {
		zones = []string{zone}
	}
	var after, interfaces ordered.List
	for _, nic := range m.NICs {
		t.networkInterface(m, nic, zones)
		address := t.nameOf(m, nic)
		after = append(after, id(interfaceKind, address))
		interfaces = append(interfaces, ordered.Of("id", id(interfaceKind, address), "properties",
			ordered.Of("primary", nic == cloud.Primary(m))))
	}
	storage, disks := t.storage(m, zones)
	after = append(after, disks...)
	properties := ordered.Of("hardwareProfile", ordered.Of("vmSize", prepared.Size.Size.Name), "storageProfile",
		storage,
		"osProfile", t.osProfile(m, prepared.Payload), "networkProfile", ordered.Of("networkInterfaces", interfaces))
	if m.Firmware.SecureBoot || m.Firmware.TPM {
		properties.Set("securityProfile", ordered.Of("securityType", "TrustedLaunch",
			"uefiSettings", ordered.Of("secureBootEnabled", m.Firmware.SecureBoot, "vTpmEnabled", m.Firmware.TPM)))
	}
	if m.Interruptible {
		properties.Set("priority", "Spot")
		properties.Set("evictionPolicy", "Deallocate")
		properties.Set("billingProfile", ordered.Of("maxPrice", -1))
	}
	identity, made := identityOf(m)
	after = append(after, made...)
	tags := ordered.Of()
	for _, label := range platform.LabelsOf(m) {
		tags.Set(label.Key, ordered.Keep(literal(label.Value)))
	}
	t.add(machineKind, machineVersion, name, after, "plan", planOf(platform.ImageOf(f, m)), "zones", zones, "tags", tags,
		"identity", identity, "properties", properties)
	t.firstBoot(m, name)
	t.outputs.Set(t.names.Name("output", longestOutputName, m.Name, "address"), ordered.Of("type", "string",
		"value", fmt.Sprintf("[reference(resourceId('%s', '%s')).ipConfigurations[0].properties.privateIPAddress]",
			interfaceKind, t.nameOf(m, cloud.Primary(m)))))
	if m.PublicAddress {
		t.outputs.Set(t.names.Name("output", longestOutputName, m.Name, "public-address"), ordered.Of("type", "string", "value",
			fmt.Sprintf("[reference(resourceId('%s', '%s')).ipAddress]", addressKind, name)))
	}
	return nil
}

// storage creates the data disks of a machine. It returns the machine's storage
// profile and the disks that it depends on.
func (t *template) storage(m *fleet.Machine, zones []string) (storage *ordered.Map, after ordered.List) {
	f, name, root := t.job.Fleet, platform.NameOf(m.Name), m.Disks[0]
	storage = ordered.Of("imageReference", imageReference(platform.ImageOf(f, m)),
		"osDisk", ordered.Of("name", t.names.Name("disk", longestName, name, root.Name), "createOption", "FromImage", "diskSizeGB",
			platform.DiskSize(f, m, root),
			"deleteOption", deleteOption(root), "managedDisk", ordered.Of("storageAccountType", class(root))))
	var dataDisks ordered.List
	for _, disk := range m.Disks {
		if disk.IsRoot() {
			continue
		}
		diskName := t.names.Name("disk", longestName, name, disk.Name)
		t.add(diskKind, diskVersion, diskName, nil, "zones", zones, "sku", ordered.Of("name", class(disk)),
			"properties", ordered.Of("creationData", ordered.Of("createOption", "Empty"), "diskSizeGB",
				platform.DiskSize(f, m, disk)))
		after = append(after, id(diskKind, diskName))
		dataDisks = append(dataDisks, ordered.Of("lun", logicalUnit(m, disk), "createOption", "Attach",
			"deleteOption", deleteOption(disk), "managedDisk", idOf(diskKind, diskName)))
	}
	storage.Set("dataDisks", dataDisks)
	return storage, after
}

// osProfile names the one account that the platform creates. The first-boot data
// creates the others. Windows requires a password, which is a parameter.
func (t *template) osProfile(m *fleet.Machine, payload cloud.Payload) *ordered.Map {
	f := t.job.Fleet
	profile := ordered.Of("computerName", m.HostName)
	user, key := cloud.AdminKey(f, m)
	if catalog.Of(f, m).Family.Class() == catalog.ClassWindows {
		admin := "tidewarden"
		if len(m.Users) > 0 {
			admin = m.Users[0].Name
		}
		parameter := parameterName(m, "password")
		t.parameters.Set(parameter, ordered.Of("type", "securestring", "metadata",
			ordered.Of("description", "Password of "+admin+" on "+m.Name)))
		profile.Set("adminUsername", admin)
		profile.Set("adminPassword", "[parameters('"+parameter+"')]")
	} else if user != nil {
		profile.Set("adminUsername", user.Name)
		profile.Set("linuxConfiguration", ordered.Of("disablePasswordAuthentication", true, "ssh",
			ordered.Of("publicKeys", ordered.List{
				ordered.Of("path", "/home/"+user.Name+"/.ssh/authorized_keys", "keyData", cloud.KeyText(key))})))
	}
	if !payload.Secret {
		profile.Set("customData", payload.Base64())
		return profile
	}
	parameter := parameterName(m, "first_boot")
	t.parameters.Set(parameter, ordered.Of("type", "securestring", "metadata",
		ordered.Of("description", "First-boot data of "+m.Name+", which holds a secret; base64")))
	t.secrets.Set(parameter, ordered.Of("value", payload.Base64()))
	profile.Set("customData", "[parameters('"+parameter+"')]")
	return profile
}

func parameterName(m *fleet.Machine, what string) string {
	return strings.ReplaceAll(m.Name, "-", "_") + "_" + what
}

// imageReference returns the reference to an image: publisher:offer:sku:version with or
// without the word plan, or the id of an image of the account, of a gallery of its own, of
// one that is shared with it, or of the community's (ImageReference in the reference).
func imageReference(name string) *ordered.Map {
	if parts := strings.Split(name, ":"); len(parts) == 4 || len(parts) == 5 && parts[4] == planMark {
		return ordered.Of("publisher", parts[0], "offer", parts[1], "sku", parts[2], "version", parts[3])
	}
	key := "id"
	switch lower := strings.ToLower(name); {
	case strings.HasPrefix(lower, "/communitygalleries/"):
		key = "communityGalleryImageId"
	case strings.HasPrefix(lower, "/sharedgalleries/"):
		key = "sharedGalleryImageId"
	}
	return ordered.Of(key, literal(name))
}

// planMark ends the id of an image of the marketplace that is sold by a plan.
const planMark = "plan"

// planOf returns the plan of an image of the marketplace, or nil. Its names are those of
// the image.
func planOf(name string) *ordered.Map {
	parts := strings.Split(name, ":")
	if len(parts) != 5 || parts[4] != planMark {
		return nil
	}
	return ordered.Of("name", parts[2], "publisher", parts[0], "product", parts[1])
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
