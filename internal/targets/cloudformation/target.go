// Package cloudformation renders a fleet as an AWS CloudFormation template.
// Resource types and properties are those of the CloudFormation template
// reference (docs.aws.amazon.com, "AWS resource and property types reference").
package cloudformation

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"stavren.example/stavren/finding"
	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/catalog"
	"stavren.example/stavren/internal/targets/cloud"
	"stavren.example/stavren/internal/targets/cloudinit"
	"stavren.example/stavren/render"
)

// Target renders one template a fleet.
var Target = render.Target{
	Name:      "cloudformation",
	Summary:   "one template for AWS CloudFormation",
	Writes:    []string{"FLEET.cloudformation.json"},
	Fates:     fates(),
	Overrides: kind.Overrides,
	Needs:     needs,
	Fleet:     func(job *render.Job) ([]render.File, error) { return newTemplate(job).render() },
	Steps: func(job *render.Job, _ []*fleet.Machine) []render.Step {
		f := job.Fleet
		region := kind.Place(f, nil, "region")
		file := f.Name + ".cloudformation.json"
		return []render.Step{
			{About: "have the template looked at", Command: fmt.Sprintf("aws cloudformation validate-template --region %s --template-body file://%s", region, file)},
			{About: "make the stack; a template of more than 51,200 bytes needs --s3-bucket BUCKET as well", Command: fmt.Sprintf("aws cloudformation deploy --region %s --stack-name %s --template-file %s", region, f.Name, file),
				Request: fmt.Sprintf("POST https://cloudformation.%s.amazonaws.com/\nContent-Type: application/x-www-form-urlencoded\nAuthorization: signed with your own keys (Signature Version 4)\n\nAction=CreateStack&Version=2010-05-15&StackName=%s&TemplateBody= the content of %s, percent-encoded", region, f.Name, file)},
		}
	},
}

var kind = cloud.New("cloudformation", cloudinit.Platform{
	DiskDevice: func(disk *fleet.Disk) string { return "/dev/stavren/" + disk.Name },
	// Disks are NVMe devices in an order of their own. Where the image links them
	// to the names of the mapping, that link is taken; else the one disk of that
	// size without partitions.
	FindDisk: func(m *fleet.Machine, disk *fleet.Disk) string {
		name := deviceName(m, disk)
		return fmt.Sprintf("if [ -e %s ]; then readlink -f %s; else lsblk -bdnpo NAME,SIZE | awk '$2 == %d {print $1}' | while read -r d; do [ $(lsblk -no NAME $d | wc -l) -eq 1 ] && echo $d && break; done; fi",
			name, name, int64(sold(disk)))
	},
},
	cloud.Place{Key: "region", What: "the region that machines run in"},
)

// sold is the size of a disk as the platform sells it. It asks the catalogue,
// since kind, which would know, is made of what calls this.
func sold(disk *fleet.Disk) fleet.Bytes {
	platform, _ := catalog.LookupPlatform("cloudformation")
	return platform.RoundDisk(disk.Size)
}

// deviceName is the name of a data disk in the block device mapping, from
// /dev/sdf on as the platform recommends.
func deviceName(m *fleet.Machine, disk *fleet.Disk) string {
	return "/dev/sd" + string(rune('e'+slices.Index(m.Disks, disk)))
}

// rootDevices are the names of the root disk in the images of systems; most
// others have /dev/sda1.
var rootDevices = map[string]string{"debian": "/dev/xvda"}

func rootDevice(f *fleet.Fleet, m *fleet.Machine) string {
	if said := kind.Value(f, m, "root_device"); said != "" {
		return said
	}
	family, _, _ := strings.Cut(catalog.Of(f, m).Name, "-")
	if device := rootDevices[family]; device != "" {
		return device
	}
	return "/dev/sda1"
}

func fates() []render.Fate {
	return render.Merge(cloud.Fates(),
		render.Carry("network.subnet", "machine.interruptible", "machine.when_stopped", "fleet.about", "disk.speed"),
		render.Adapt("a network of the stack's own, with a way out for nat and bridged ones; or the subnet that platforms names", "network.mode"),
		render.Adapt("the volume is kept when the machine goes", "disk.keep"),
		render.Adapt("an instance profile", "identity.account"),
		render.LeaveOut("the instance profile has its own policies", "identity.scopes"),
	)
}

// needs adds what the platform asks of networks.
func needs(f *fleet.Fleet, m *fleet.Machine) []finding.Finding {
	findings := kind.Needs(f, m)
	add := func(rule string, place fleet.Place, path, message, remedy string) {
		findings = append(findings, finding.Finding{Rule: rule, Severity: finding.Error, Place: place, Path: path, Message: message, Remedy: remedy})
	}
	if m == f.Machines[0] && len(f.Machines) > fewMachines {
		if fault := tooLarge(f); fault != "" {
			add("template-too-large", f.PlaceOf(fleet.Itself), "machines", fault, "split the definition into several, each a stack of its own")
		}
	}
	if kind.Value(f, m, "network") == "" {
		for _, nic := range m.NICs {
			network := f.Network(nic.Network)
			if network == nil {
				continue
			}
			if bits := network.Subnet.Bits(); !network.Subnet.IsValid() || bits < 16 || bits > 28 {
				add("subnet-of-platform", network.PlaceOf("subnet"), "networks."+network.Name+".subnet",
					fmt.Sprintf("network %s has the subnet %v, and the platform makes subnets between /16 and /28", network.Name, network.Subnet), "choose a subnet of such a size, or name one of the platform's under platforms")
			} else if isReserved(network, nic.Address) {
				add("address-of-platform", nic.PlaceOf("address"), "machines."+m.Name+".nics."+nic.Name+".address",
					fmt.Sprintf("machine %s has the address %v, and the platform keeps the first four of a subnet for itself", m.Name, nic.Address), "choose an address from the fifth of the subnet on")
			}
		}
	}
	if len(m.Disks) > 12 {
		add("too-many-disks", m.Disks[12].PlaceOf(fleet.Itself), "machines."+m.Name+".disks", fmt.Sprintf("machine %s has %d disks, and there are names for 12", m.Name, len(m.Disks)), "give it fewer disks")
	}
	return findings
}

// Limits of a template (docs.aws.amazon.com, "CloudFormation quotas").
const (
	maxResources = 500
	maxTemplate  = 1_000_000
	// fewMachines come nowhere near the limits, so nothing is counted.
	fewMachines = 40
)

// tooLarge says which limit a fleet's template exceeds, or nothing.
func tooLarge(f *fleet.Fleet) string {
	t := newTemplate(cloud.WithoutSecrets(f))
	files, err := t.render()
	switch {
	case err != nil:
		return "" // what is wrong is said elsewhere
	case t.resources.Len() > maxResources:
		return fmt.Sprintf("the template has %d resources, and the platform takes %d", t.resources.Len(), maxResources)
	case len(files[0].Data) > maxTemplate:
		return fmt.Sprintf("the template has %d bytes, and the platform takes %d", len(files[0].Data), maxTemplate)
	}
	return ""
}

// isReserved reports whether an address is one of the first four of a subnet.
func isReserved(network *fleet.Network, addr netip.Addr) bool {
	reserved := network.Subnet.Masked().Addr()
	for range 4 {
		if addr == reserved {
			return true
		}
		reserved = reserved.Next()
	}
	return false
}
