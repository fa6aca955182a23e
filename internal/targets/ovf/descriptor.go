package ovf

import (
	"fmt"
	"strconv"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/catalog"
	"stavren.example/stavren/internal/targets/hypervisor"
	"stavren.example/stavren/internal/xmldoc"
)

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
	if f.Image(m.Image) == nil {
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
	t.addDisks()
	t.addDrives(seedSize)
	t.addFiles()
	if err := t.addInterfaces(); err != nil {
		return nil, err
	}
	t.addFirmware()
	return t.envelope().Encode(), nil
}

// addDisks puts every disk on its controller. Those that start with content have a file.
func (t *template) addDisks() {
	for i, disk := range t.machine.Disks {
		id := fmt.Sprintf("disk-%d", i)
		reference := ""
		if contentOf(t.fleet, t.machine, disk) != "" {
			reference = "file-" + disk.Name
		}
		t.disks.Add(xmldoc.New("Disk", "ovf:diskId", id, "ovf:fileRef", reference,
			"ovf:capacity", strconv.FormatInt(mebibytes(disk.Size), 10), "ovf:capacityAllocationUnits", "byte * 2^20",
			"ovf:format", "http://www.vmware.com/interfaces/specifications/vmdk.html#streamOptimized"))
		parent := t.hardware.on(controllerOf(t.fleet, t.machine, disk))
		t.hardware.item(typeDisk, "Disk "+disk.Name, "AddressOnParent", strconv.Itoa(unitOf(t.machine, disk)),
			"HostResource", "ovf:/disk/"+id, "Parent", parent)
	}
}

// addDrives puts the first-boot data and the media into drives on IDE, which every
// system has a driver for.
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

// addFiles lists the files of disks after those of drives: an archive has them in the
// order of the references (DSP0243, 5.3), and steps pack them in this one.
func (t *template) addFiles() {
	for _, disk := range t.machine.Disks {
		if contentOf(t.fleet, t.machine, disk) != "" {
			t.references.Add(xmldoc.New("File", "ovf:id", "file-"+disk.Name, "ovf:href", diskFile(disk)))
		}
	}
}

// addDrive adds a drive: two are on each of the two controllers.
func (t *template) addDrive(at int, name, file string) {
	t.hardware.item(typeDisc, name, "AddressOnParent", strconv.Itoa(at%2), "AutomaticAllocation", "true",
		"HostResource", "ovf:/file/"+file, "Parent", t.hardware.on(controller{typeIDE, "PIIX4", at / 2}))
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

func (t *template) envelope() *xmldoc.Element {
	m := t.machine
	system := catalog.Of(t.fleet, m)
	ids := idsOf(system)
	machine := xmldoc.New("VirtualSystem", "ovf:id", m.Name).
		Add(xmldoc.Text("Info", "A virtual machine"), xmldoc.Text("Name", m.Name))
	if m.About != "" {
		machine.Add(xmldoc.New("AnnotationSection").
			Add(xmldoc.Text("Info", "What the machine is for"), xmldoc.Text("Annotation", m.About)))
	}
	machine.Add(
		xmldoc.New("OperatingSystemSection", "ovf:id", strconv.Itoa(ids.osType), "vmw:osType", ids.guest).
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
