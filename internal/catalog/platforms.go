package catalog

import "strings"

// platforms are the names of the targets, as definitions write them under platforms, ids
// and limits. A test compares them with the targets.
var platforms = []string{"cloud-init", "seed", "qemu", "libvirt", "ovf", "bhyve", "heat", "cloudformation", "arm", "gce",
	"oci", "droplet"}

// Platforms returns the names of the targets.
func Platforms() []string { return platforms }

// otherNames are what people call platforms elsewhere.
var otherNames = map[string]string{
	"aws": "cloudformation", "amazon": "cloudformation", "ec2": "cloudformation",
	"azure": "arm", "microsoft": "arm", "azurerm": "arm",
	"gcp": "gce", "google": "gce", "google-cloud": "gce",
	"openstack": "heat", "nova": "heat",
	"oracle": "oci", "oracle-cloud": "oci",
	"digitalocean": "droplet", "digital-ocean": "droplet", "do": "droplet",
	"kvm": "libvirt", "virsh": "libvirt", "freebsd": "bhyve", "ova": "ovf", "vmware": "ovf", "nocloud": "seed",
}

// PlatformCalled returns our name of a platform that is called something else elsewhere,
// or "".
func PlatformCalled(name string) string { return otherNames[strings.ToLower(name)] }

// ForOthers begins the names that are left to other programs.
const ForOthers = "x-"
