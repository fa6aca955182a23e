package ovf

import (
	"strconv"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/targets/hypervisor"
	"stavren.example/stavren/internal/xmldoc"
)

// Resource types of CIM_ResourceAllocationSettingData (DMTF DSP8023).
const (
	typeProcessor = 3
	typeMemory    = 4
	typeIDE       = 5
	typeSCSI      = 6
	typeEthernet  = 10
	typeDisc      = 15
	typeDisk      = 17
	typeSATA      = 20
)

// hardware collects the items of the virtual hardware section. Each has a number, and
// those on a controller name it as their parent.
type hardware struct {
	section *xmldoc.Element
	count   int
	// controllers are the numbers of those that are there, by kind and address.
	controllers map[controller]string
}

// controller is one of a machine's controllers of disks and drives.
type controller struct {
	kind    int
	subtype string
	// address counts those of one kind.
	address int
}

// The subtypes of controllers. Those of SCSI are in the trade's use rather than the
// standard's: para-virtual, which kernels of cloud images have a driver for
// (vmw_pvscsi), and serial-attached, which every Windows has one for. The subtype of
// SATA is refused by its common name.
const (
	paraVirtual    = "VirtualSCSI"
	serialAttached = "lsilogicsas"
	ahci           = "vmware.sata.ahci"
)

// controllerOf returns the controller that a disk is on.
func controllerOf(f *fleet.Fleet, m *fleet.Machine, disk *fleet.Disk) controller {
	switch {
	case disk.Bus == fleet.SATA:
		return controller{typeSATA, ahci, 0}
	case hypervisor.IsWindows(f, m):
		return controller{typeSCSI, serialAttached, 0}
	}
	return controller{typeSCSI, paraVirtual, 0}
}

// unitOf returns a disk's place on its controller, where 7 on SCSI is the controller's
// own.
func unitOf(m *fleet.Machine, disk *fleet.Disk) int {
	sata, at := disk.Bus == fleet.SATA, 0
	for _, other := range m.Disks {
		if other == disk {
			break
		}
		if (other.Bus == fleet.SATA) == sata {
			at++
		}
	}
	if !sata && at >= 7 {
		at++
	}
	return at
}

func newHardware(m *fleet.Machine) hardware {
	return hardware{controllers: map[controller]string{}, section: xmldoc.New("VirtualHardwareSection").Add(
		xmldoc.Text("Info", "Virtual hardware"),
		xmldoc.New("System").Add(
			xmldoc.Text("vssd:ElementName", "Virtual Hardware Family"),
			xmldoc.Text("vssd:InstanceID", "0"),
			xmldoc.Text("vssd:VirtualSystemIdentifier", m.Name),
			xmldoc.Text("vssd:VirtualSystemType", "vmx-13 virtualbox-2.2"),
		))}
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

// on returns the number of a controller, which is added when it is first needed.
func (h *hardware) on(c controller) string {
	if id, ok := h.controllers[c]; ok {
		return id
	}
	name := map[int]string{typeIDE: "IDE controller", typeSCSI: "SCSI controller", typeSATA: "SATA controller"}[c.kind]
	h.controllers[c] = h.item(c.kind, name, "Address", strconv.Itoa(c.address), "ResourceSubType", c.subtype)
	return h.controllers[c]
}

func (h *hardware) setting(key, value string) {
	h.section.Add(xmldoc.New("vmw:Config", "ovf:required", "false", "vmw:key", key, "vmw:value", value))
}
