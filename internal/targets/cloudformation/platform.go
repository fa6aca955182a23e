package cloudformation

import (
	_ "embed"
	"fmt"
	"slices"
	"strings"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/catalog"
	"stavren.example/stavren/internal/sizing"
	"stavren.example/stavren/internal/targets/cloud"
	"stavren.example/stavren/internal/targets/cloudinit"
)

//go:embed sizes.csv
var sizes string

// disks are the limits of volumes ("Amazon EBS volume types").
var disks = sizing.Disks{Min: fleet.GiB, Step: fleet.GiB, MinWindowsRoot: 30 * fleet.GiB}

// platform describes AWS as the EC2 user guide and API reference did in November
// 2026 ("Tag your Amazon EC2 resources", "Run commands at launch", "Device names").
var platform = cloud.New(cloud.Cloud{
	Name:  "cloudformation",
	Title: "AWS CloudFormation",
	Names: cloud.Names{Valid: cloud.Pattern(`^[A-Za-z0-9][A-Za-z0-9._-]*$`), Limit: 255},
	Labels: cloud.Labels{
		// 50 tags, less those that the platform and this template add.
		Limit: 45, KeyLimit: 128, ValueLimit: 256,
		ValidKey:   cloud.Pattern(`^[\p{L}\p{N} _.:/=+@-]+$`),
		ValidValue: cloud.Pattern(`^[\p{L}\p{N} _.:/=+@-]*$`),
		Reserved:   func(key string) bool { return key == "Name" || strings.HasPrefix(strings.ToLower(key), "aws:") },
	},
	FirstBoot: cloud.FirstBoot{
		Limit: 16384, Compressible: true,
		// EC2Launch runs what is between these tags, once ("How Amazon EC2 handles user data
		// for Windows instances").
		WindowsScript: func(script string) string {
			return "<powershell>\n" + script + "</powershell>\n<persist>false</persist>\n"
		},
		Environment: cloudinit.Environment{
			DiskDevice: func(disk *fleet.Disk) string { return "/dev/stavren/" + disk.Name },
			FindDisk:   findDisk,
		},
	},
	Disks: disks,
	Sizes: sizes, ClosedInside: true,
	// "Amazon EC2 key pairs": for Windows, RSA alone decrypts the password.
	KeyTypes: []string{"ssh-ed25519", "ssh-rsa"}, WindowsKeyTypes: []string{"ssh-rsa"},
	Settings: []cloud.Setting{
		{Key: "region", What: "the region that machines run in", Needed: cloud.Always},
		{Key: "zone", What: "the availability zone that machines run in, by default the region's first"},
		{Key: "network", What: "an existing subnet that machines are put on, instead of new ones"},
		vpcSetting,
		{Key: "root_device", What: "the name of the root disk in the image's block device mapping"},
	},
	ImageID: "ami-0123456789abcdef0",
})

// nameOfVolume prints the volume whose name in the mapping is the argument. Volumes are
// NVMe devices in an order of their own, which keep that name among what their makers
// add to the controller's identity, from byte 3072 on ("Amazon EBS and NVMe").
const nameOfVolume = `python3 -c '
import array, fcntl, glob, struct, sys
for path in sorted(glob.glob("/dev/nvme*n1")):
    data = array.array("B", bytes(4096))
    call = struct.pack("<BBHIIIQQIIIIIIIIII", 6, 0, 0, 0, 0, 0, 0, data.buffer_info()[0], 0, 4096, 1, 0, 0, 0, 0, 0, 0, 0)
    with open(path, "rb") as device:
        fcntl.ioctl(device, 0xC0484E41, call)
    if bytes(data[3072:3104]).split(b"\0")[0].strip().decode().split("/")[-1] == sys.argv[1]:
        print(path)
' `

// vpcSetting is needed if the definition names a subnet.
var vpcSetting = cloud.Setting{Key: "vpc", What: "the VPC of that subnet, which firewalls belong to"}

// findDisk finds a data disk by its name in the mapping: the image links it, or the
// volume itself knows it.
func findDisk(m *fleet.Machine, disk *fleet.Disk) string {
	name := deviceName(m, disk)
	return fmt.Sprintf("if [ -e %[1]s ]; then readlink -f %[1]s; else %[2]s%[3]s; fi", name, nameOfVolume,
		strings.TrimPrefix(name, "/dev/"))
}

// mostDisks is how many disks have device names.
const mostDisks = 12

// deviceName returns the name of a data disk in the block device mapping, from
// /dev/sdf on as the platform recommends.
func deviceName(m *fleet.Machine, disk *fleet.Disk) string {
	return "/dev/sd" + string(rune('e'+slices.Index(m.Disks, disk)))
}

// rootDevice returns the name of the root disk in an image: Debian's and Alpine's is
// /dev/xvda, and that of most others /dev/sda1.
func rootDevice(f *fleet.Fleet, m *fleet.Machine) string {
	if name := platform.Value(f, m, "root_device"); name != "" {
		return name
	}
	if name := catalog.Of(f, m).Name; strings.HasPrefix(name, "debian-") || strings.HasPrefix(name, "alpine-") {
		return "/dev/xvda"
	}
	return "/dev/sda1"
}
