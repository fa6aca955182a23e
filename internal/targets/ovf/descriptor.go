package ovf

import (
	"fmt"
	"strconv"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/catalog"
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

// descriptor renders the envelope of one machine.
func descriptor(f *fleet.Fleet, m *fleet.Machine, seedSize int) ([]byte, error) {
	image := f.Image(m.Image)
	if image == nil {
		return nil, fmt.Errorf("image %q is not defined", m.Image)
	}
	references := xmldoc.New("References")
	diskSection := xmldoc.New("DiskSection").Add(xmldoc.Text("Info", "Disks of the machine"))
	networkSection := xmldoc.New("NetworkSection").Add(xmldoc.Text("Info", "Networks that the machine is on"))
	h := &hardware{section: xmldoc.New("VirtualHardwareSection").Add(
		xmldoc.Text("Info", "Virtual hardware"),
		xmldoc.New("System").Add(
			xmldoc.Text("vssd:ElementName", "Virtual Hardware Family"),
			xmldoc.Text("vssd:InstanceID", "0"),
			xmldoc.Text("vssd:VirtualSystemIdentifier", m.Name),
			xmldoc.Text("vssd:VirtualSystemType", "vmx-13 virtualbox-2.2"),
		))}
	h.item(typeProcessor, "Processors", "AllocationUnits", "hertz * 10^6", "VirtualQuantity",
		strconv.Itoa(m.Resources.CPUs))
	h.item(typeMemory, "Memory", "AllocationUnits", "byte * 2^20", "VirtualQuantity",
		strconv.FormatInt(mebibytes(m.Resources.Memory), 10))
	scsi := h.item(typeSCSI, "SCSI controller", "Address", "0", "ResourceSubType", "lsilogic")
	sata := h.item(typeSATA, "SATA controller", "Address", "0", "ResourceSubType", "AHCI")
	for i, disk := range m.Disks {
		file := ""
		if disk.IsRoot() && image.File != "" {
			file = "file-root"
			references.Add(xmldoc.New("File", "ovf:id", file, "ovf:href", rootFile))
		}
		id := fmt.Sprintf("disk-%d", i)
		diskSection.Add(xmldoc.New("Disk", "ovf:diskId", id, "ovf:fileRef", file,
			"ovf:capacity", strconv.FormatInt(mebibytes(disk.Size), 10), "ovf:capacityAllocationUnits", "byte * 2^20",
			"ovf:format", "http://www.vmware.com/interfaces/specifications/vmdk.html#streamOptimized"))
		h.item(typeDisk, "Disk "+disk.Name, "AddressOnParent", strconv.Itoa(address(m, disk)), "HostResource",
			"ovf:/disk/"+id, "Parent", scsi)
	}
	references.Add(xmldoc.New("File", "ovf:id", "file-seed", "ovf:href", "seed.iso", "ovf:size",
		strconv.Itoa(seedSize)))
	h.item(typeDisc, "Drive with first-boot data", "AddressOnParent", "0", "AutomaticAllocation", "true",
		"HostResource", "ovf:/file/file-seed", "Parent", sata)
	for i, disc := range m.Media {
		id := fmt.Sprintf("file-disc-%d", i+1)
		references.Add(xmldoc.New("File", "ovf:id", id, "ovf:href", discFile(disc)))
		h.item(typeDisc, "Drive "+disc.Name, "AddressOnParent", strconv.Itoa(i+1), "AutomaticAllocation", "true",
			"HostResource", "ovf:/file/"+id, "Parent", sata)
	}
	named := map[string]bool{}
	for i, nic := range m.NICs {
		network := f.Network(nic.Network)
		if network == nil {
			return nil, fmt.Errorf("network %q is not defined", nic.Network)
		}
		if !named[network.Name] {
			named[network.Name] = true
			networkSection.Add(xmldoc.New("Network", "ovf:name",
				network.Name).Add(xmldoc.Text("Description", describe(network))))
		}
		model := "VmxNet3"
		if nic.Model == fleet.E1000 {
			model = "E1000"
		}
		h.item(typeEthernet, "Interface "+nic.Name, "Address", nic.HardwareAddress, "AddressOnParent", strconv.Itoa(i),
			"AutomaticAllocation", "true",
			"Connection", network.Name, "ResourceSubType", model)
	}
	if m.Firmware.Kind == fleet.UEFI {
		h.section.Add(xmldoc.New("vmw:Config", "ovf:required", "false", "vmw:key", "firmware", "vmw:value", "efi"))
		if m.Firmware.SecureBoot {
			h.section.Add(xmldoc.New("vmw:Config", "ovf:required", "false", "vmw:key",
				"bootOptions.efiSecureBootEnabled", "vmw:value", "true"))
		}
	}
	system := catalog.Of(f, m)
	kind := systemKind(system.Family.Name)
	machine := xmldoc.New("VirtualSystem", "ovf:id", m.Name).Add(xmldoc.Text("Info", "A virtual machine"),
		xmldoc.Text("Name", m.Name))
	if m.About != "" {
		machine.Add(xmldoc.New("AnnotationSection").Add(xmldoc.Text("Info", "What the machine is for"),
			xmldoc.Text("Annotation", m.About)))
	}
	machine.Add(
		xmldoc.New("OperatingSystemSection", "ovf:id", strconv.Itoa(kind)).Add(xmldoc.Text("Info",
			"The operating system"), xmldoc.Text("Description", system.Title)),
		h.section)
	envelope := xmldoc.New("Envelope",
		"xmlns", "http://schemas.dmtf.org/ovf/envelope/1",
		"xmlns:ovf", "http://schemas.dmtf.org/ovf/envelope/1",
		"xmlns:rasd", "http://schemas.dmtf.org/wbem/wscim/1/cim-schema/2/CIM_ResourceAllocationSettingData",
		"xmlns:vssd", "http://schemas.dmtf.org/wbem/wscim/1/cim-schema/2/CIM_VirtualSystemSettingData",
		"xmlns:vmw", "http://www.vmware.com/schema/ovf",
	).Add(references, diskSection, networkSection, machine)
	return envelope.Encode(), nil
}

// mebibytes rounds an amount up to the units of the format.
func mebibytes(amount fleet.Bytes) int64 { return int64((amount + fleet.MiB - 1) / fleet.MiB) }

func discFile(disc *fleet.Medium) string { return disc.Name + ".iso" }

func describe(network *fleet.Network) string {
	text := map[fleet.NetworkMode]string{
		fleet.NAT: "out through the host", fleet.HostOnly: "machines and host alone",
		fleet.Bridged: "the host's own network", fleet.Isolated: "machines alone",
	}[network.Mode]
	if network.Subnet.IsValid() {
		text += ", " + network.Subnet.String()
	}
	return text
}
