package catalog

import (
	"crypto/sha256"
	"fmt"
	"regexp"
	"strings"

	"stavren.example/stavren/fleet"
)

// Platform is what a cloud asks of what it is sent: limits of names, labels, user
// data and disks, as its public documentation gave them in November 2026.
type Platform struct {
	// Name is the target's name, Title the platform's in words.
	Name, Title string
	// Names is what names of machines look like, MaxName their longest.
	Names   *regexp.Regexp
	MaxName int
	// ReservedLogins are accounts that it refuses to make.
	ReservedLogins []string
	// UserData is the most user data in bytes; it counts base64 if Encoded, and
	// may be compressed if Compressible.
	UserData              int
	Encoded, Compressible bool
	// Labels bounds what it calls labels, tags or metadata.
	MaxLabels, MaxLabelKey, MaxLabelValue int
	LabelKeys, LabelValues                *regexp.Regexp
	// MinDisk is the smallest disk and DiskStep what sizes are multiples of.
	MinDisk, DiskStep fleet.Bytes
	// OwnSizes says that the definition lists the sizes, for lack of public ones.
	OwnSizes bool
}

var (
	anyName  = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._-]*$`)
	anyLabel = regexp.MustCompile(`^[^\x00-\x1f]*$`)
)

// reservedByARM are the administrators' names that the platform refuses
// (osProfile.adminUsername in its reference).
var reservedByARM = []string{"administrator", "admin", "user", "user1", "test", "user2", "test1", "user3", "admin1", "1", "123", "a", "actuser", "adm",
	"admin2", "aspnet", "backup", "console", "david", "guest", "john", "owner", "root", "server", "sql", "support", "support_388945a0", "sys", "test2", "test3", "user4", "user5"}

var platforms = []Platform{
	{Name: "heat", Title: "OpenStack Heat", Names: anyName, MaxName: 255, UserData: 65535, Encoded: true,
		MaxLabels: 128, MaxLabelKey: 255, MaxLabelValue: 255, LabelKeys: anyLabel, LabelValues: anyLabel,
		MinDisk: fleet.GiB, DiskStep: fleet.GiB, OwnSizes: true},
	{Name: "cloudformation", Title: "AWS CloudFormation", Names: anyName, MaxName: 255, UserData: 16384, Compressible: true,
		MaxLabels: 45, MaxLabelKey: 128, MaxLabelValue: 256, LabelKeys: regexp.MustCompile(`^[\p{L}\p{N} _.:/=+@-]+$`), LabelValues: regexp.MustCompile(`^[\p{L}\p{N} _.:/=+@-]*$`),
		MinDisk: fleet.GiB, DiskStep: fleet.GiB},
	{Name: "arm", Title: "Azure Resource Manager", Names: anyName, MaxName: 64, ReservedLogins: reservedByARM, UserData: 65535, Encoded: true, Compressible: true,
		MaxLabels: 50, MaxLabelKey: 512, MaxLabelValue: 256, LabelKeys: regexp.MustCompile(`^[^<>%&\\?/\x00-\x1f]+$`), LabelValues: anyLabel,
		MinDisk: fleet.GiB, DiskStep: fleet.GiB},
	{Name: "gce", Title: "Google Compute Engine", Names: regexp.MustCompile(`^[a-z]([a-z0-9-]*[a-z0-9])?$`), MaxName: 63, UserData: 262144, Compressible: true,
		MaxLabels: 64, MaxLabelKey: 63, MaxLabelValue: 63, LabelKeys: regexp.MustCompile(`^[a-z][a-z0-9_-]*$`), LabelValues: regexp.MustCompile(`^[a-z0-9_-]*$`),
		MinDisk: 10 * fleet.GiB, DiskStep: fleet.GiB},
	{Name: "oci", Title: "Oracle Cloud Infrastructure", Names: anyName, MaxName: 63, UserData: 32000, Encoded: true, Compressible: true,
		MaxLabels: 10, MaxLabelKey: 100, MaxLabelValue: 256, LabelKeys: regexp.MustCompile(`^[^. \x00-\x1f]+$`), LabelValues: anyLabel,
		MinDisk: 50 * fleet.GiB, DiskStep: fleet.GiB},
	{Name: "droplet", Title: "DigitalOcean Droplets", Names: regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9.-]*$`), MaxName: 63, UserData: 65536,
		MaxLabels: 40, MaxLabelKey: 100, MaxLabelValue: 150, LabelKeys: regexp.MustCompile(`^[A-Za-z0-9_:-]+$`), LabelValues: regexp.MustCompile(`^[A-Za-z0-9_:-]*$`),
		MinDisk: fleet.GiB, DiskStep: fleet.GiB},
}

// Platforms returns the clouds, in the order of the documentation.
func Platforms() []Platform { return append([]Platform(nil), platforms...) }

// LookupPlatform returns the cloud that a target is for.
func LookupPlatform(target string) (Platform, bool) {
	for _, platform := range platforms {
		if platform.Name == target {
			return platform, true
		}
	}
	return Platform{}, false
}

// RoundDisk is the smallest disk of the platform that holds an amount.
func (p Platform) RoundDisk(amount fleet.Bytes) fleet.Bytes {
	amount = max(amount, p.MinDisk)
	return (amount + p.DiskStep - 1) / p.DiskStep * p.DiskStep
}

// Shorten fits a name into a number of characters: as much of it as leaves room
// for six digits that tell it from others with the same beginning. A name that
// fits stays as it is.
func Shorten(name string, most int) string {
	if len(name) <= most {
		return name
	}
	sum := sha256.Sum256([]byte("name\x00" + name))
	return strings.TrimRight(name[:most-7], "-._") + fmt.Sprintf("-%x", sum[:3])
}
