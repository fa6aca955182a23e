package ovf

import (
	"fmt"
	"strconv"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/catalog"
	"stavren.example/stavren/internal/targets/hypervisor"
	"stavren.example/stavren/internal/xmldoc"
)

// Resource types of CIM_ResourceAllocationSettingData (DMTF DSP8023).
const (
	typeProcessor = 3
	typeMemory    = 4
	typeSCSI      = 6
	typeEthernet  = 10
	typeDisc      = 15
	typeDisk      = 17
	typeSATA      = 20
)

// systemKind returns the value of CIM_OperatingSystem.OsType for a family.
func systemKind(family string) int {
	switch family {
	case catalog.Debian:
		return 96
	case catalog.RedHat:
		return 80
	case catalog.SUSE:
		return 85
	case catalog.FreeBSD:
		return 78
	case catalog.Windows:
		return 102
	}
	return linux64
}

const linux64 = 101

// hardware collects the items of the virtual hardware section. Each has a number, and
// those on a controller name it as their parent.
type hardware struct {
	section *xmldoc.Element
	count   int
	// scsi and sata are the numbers of the controllers.
	scsi, sata string
}

// item adds an item. Its elements have to be in alphabetical order (DSP0243, 7.2: the
// schema of CIM is a sequence).
func (h *hardware) item(kind int, name string, pairs ...string) string {
	h.count++
	id := strconv.Itoa(h.count)
	values := map[string]string{"ElementName": name, "InstanceID": id, "ResourceType": strconv.Itoa(kind)}
	for i := 0; i+1 < len(pairs); i += 2 {
		values[pairs[i]] = pairs[i+1]
	}
	item := xmldoc.New("Item")
	for _, key := range []string{"Address", "AddressOnParent", "AllocationUnits", "AutomaticAllocation", "Connection",
		"Description", "ElementName",
		"HostResource", "InstanceID", "Parent", "ResourceSubType", "ResourceType", "VirtualQuantity"} {
		if value := values[key]; value != "" {
			item.Add(xmldoc.Text("rasd:"+key, value))
		}
	}
	h.section.Add(item)
	return id
}

// template is the descriptor of one machine while it is being built.
type template struct {
	fleet      *fleet.Fleet
	machine    *fleet.Machine
	references *xmldoc.Element
	disks      *xmldoc.Element
	networks   *xmldoc.Element
	hardware   hardware
}

// descriptor renders the envelope of one machine.
func descriptor(f *fleet.Fleet, m *fleet.Machine, seedSize int) ([]byte, error) {
	image := f.Image(m.Image)
	if image == nil {
		return nil, fmt.Errorf("image %q is not defined", m.Image)
	}
	t := &template{
		fleet: f, machine: m,
		references: xmldoc.New("References"),
		disks:      xmldoc.New("DiskSection").Add(xmldoc.Text("Info", "Disks of the machine")),
		networks:   xmldoc.New("NetworkSection").Add(xmldoc.Text("Info", "Networks that the machine is on")),
		hardware:   newHardware(m),
	}
	t.hardware.item(typeProcessor, "Processors", "AllocationUnits", "hertz * 10^6",
		"VirtualQuantity", strconv.Itoa(m.Resources.CPUs))
	t.hardware.item(typeMemory, "Memory", "AllocationUnits", "byte * 2^20",
		"VirtualQuantity", strconv.FormatInt(mebibytes(m.Resources.Memory), 10))
	t.addDisks(image)
	t.addDrives(seedSize)
	if image.File != "" {
		// An archive has the files in the order of the references (DSP0243, 5.3), and the
		// root disk is packed last.
		t.references.Add(xmldoc.New("File", "ovf:id", rootReference, "ovf:href", rootFile))
	}
	if err := t.addInterfaces(); err != nil {
		return nil, err
	}
	t.addFirmware()
	return t.envelope().Encode(), nil
}

func newHardware(m *fleet.Machine) hardware {
	return hardware{section: xmldoc.New("VirtualHardwareSection").Add(
		xmldoc.Text("Info", "Virtual hardware"),
		xmldoc.New("System").Add(
			xmldoc.Text("vssd:ElementName", "Virtual Hardware Family"),
			xmldoc.Text("vssd:InstanceID", "0"),
			xmldoc.Text("vssd:VirtualSystemIdentifier", m.Name),
			xmldoc.Text("vssd:VirtualSystemType", "vmx-13 virtualbox-2.2"),
		))}
}

// rootReference is the id of the root disk's file.
const rootReference = "file-root"

// addDisks puts every disk on one SCSI controller. Only the root disk has a file.
func (t *template) addDisks(image *fleet.Image) {
	t.hardware.scsi = t.hardware.item(typeSCSI, "SCSI controller", "Address", "0", "ResourceSubType", "lsilogic")
	t.hardware.sata = t.hardware.item(typeSATA, "SATA controller", "Address", "0", "ResourceSubType", "AHCI")
	for i, disk := range t.machine.Disks {
		file := ""
		if disk.IsRoot() && image.File != "" {
			file = rootReference
		}
		id := fmt.Sprintf("disk-%d", i)
		t.disks.Add(xmldoc.New("Disk", "ovf:diskId", id, "ovf:fileRef", file,
			"ovf:capacity", strconv.FormatInt(mebibytes(disk.Size), 10), "ovf:capacityAllocationUnits", "byte * 2^20",
			"ovf:format", "http://www.vmware.com/interfaces/specifications/vmdk.html#streamOptimized"))
		t.hardware.item(typeDisk, "Disk "+disk.Name, "AddressOnParent", strconv.Itoa(address(t.machine, disk)),
			"HostResource", "ovf:/disk/"+id, "Parent", t.hardware.scsi)
	}
}

// addDrives puts the first-boot data and the media into drives on the SATA controller.
func (t *template) addDrives(seedSize int) {
	t.references.Add(xmldoc.New("File", "ovf:id", "file-seed", "ovf:href", "seed.iso",
		"ovf:size", strconv.Itoa(seedSize)))
	t.addDrive(0, "Drive with first-boot data", "file-seed")
	for i, disc := range t.machine.Media {
		id := fmt.Sprintf("file-disc-%d", i+1)
		t.references.Add(xmldoc.New("File", "ovf:id", id, "ovf:href", discFile(disc)))
		t.addDrive(i+1, "Drive "+disc.Name, id)
	}
}

func (t *template) addDrive(port int, name, file string) {
	t.hardware.item(typeDisc, name, "AddressOnParent", strconv.Itoa(port), "AutomaticAllocation", "true",
		"HostResource", "ovf:/file/"+file, "Parent", t.hardware.sata)
}

// addInterfaces adds the network interfaces, and each network once.
func (t *template) addInterfaces() error {
	named := map[string]bool{}
	for i, nic := range t.machine.NICs {
		network := t.fleet.Network(nic.Network)
		if network == nil {
			return fmt.Errorf("network %q is not defined", nic.Network)
		}
		if !named[network.Name] {
			named[network.Name] = true
			t.networks.Add(xmldoc.New("Network", "ovf:name", network.Name).
				Add(xmldoc.Text("Description", describe(network))))
		}
		model := "VmxNet3"
		if hypervisor.ModelOf(t.fleet, t.machine, nic) == fleet.E1000 {
			model = "E1000"
		}
		t.hardware.item(typeEthernet, "Interface "+nic.Name, "Address", nic.HardwareAddress,
			"AddressOnParent", strconv.Itoa(i), "AutomaticAllocation", "true", "Connection", network.Name,
			"ResourceSubType", model)
	}
	return nil
}

// addFirmware adds the settings for which OVF 1.1 has no element.
func (t *template) addFirmware() {
	firmware := &t.machine.Firmware
	if firmware.Kind != fleet.UEFI {
		return
	}
	t.hardware.setting("firmware", "efi")
	if firmware.SecureBoot {
		t.hardware.setting("bootOptions.efiSecureBootEnabled", "true")
	}
}

func (h *hardware) setting(key, value string) {
	h.section.Add(xmldoc.New("vmw:Config", "ovf:required", "false", "vmw:key", key, "vmw:value", value))
}

func (t *template) envelope() *xmldoc.Element {
	m := t.machine
	system := catalog.Of(t.fleet, m)
	machine := xmldoc.New("VirtualSystem", "ovf:id", m.Name).
		Add(xmldoc.Text("Info", "A virtual machine"), xmldoc.Text("Name", m.Name))
	if m.About != "" {
		machine.Add(xmldoc.New("AnnotationSection").
			Add(xmldoc.Text("Info", "What the machine is for"), xmldoc.Text("Annotation", m.About)))
	}
	machine.Add(
		xmldoc.New("OperatingSystemSection", "ovf:id", strconv.Itoa(systemKind(system.Family.Name))).
			Add(xmldoc.Text("Info", "The operating system"), xmldoc.Text("Description", system.Title)),
		t.hardware.section)
	return xmldoc.New("Envelope",
		"xmlns", "http://schemas.dmtf.org/ovf/envelope/1",
		"xmlns:ovf", "http://schemas.dmtf.org/ovf/envelope/1",
		"xmlns:rasd", "http://schemas.dmtf.org/wbem/wscim/1/cim-schema/2/CIM_ResourceAllocationSettingData",
		"xmlns:vssd", "http://schemas.dmtf.org/wbem/wscim/1/cim-schema/2/CIM_VirtualSystemSettingData",
		"xmlns:vmw", "http://www.vmware.com/schema/ovf",
	).Add(t.references, t.disks, t.networks, machine)
}

// mebibytes rounds an amount up to the units of the format.
func mebibytes(amount fleet.Bytes) int64 { return int64((amount + fleet.MiB - 1) / fleet.MiB) }

func discFile(disc *fleet.Medium) string { return disc.Name + ".iso" }

func describe(network *fleet.Network) string {
	text := describeMode(network.Mode)
	if network.Subnet.IsValid() {
		text += ", " + network.Subnet.String()
	}
	return text
}

func describeMode(mode fleet.NetworkMode) string {
	switch mode {
	case fleet.HostOnly:
		return "machines and host alone"
	case fleet.Bridged:
		return "the host's own network"
	case fleet.Isolated:
		return "machines alone"
	}
	return "out through the host"
}
