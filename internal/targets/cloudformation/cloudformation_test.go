package cloudformation_test

import (
	"context"
	"fmt"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/golden"
	"stavren.example/stavren/internal/targets/cloudformation"
	"stavren.example/stavren/render"
)

func TestDemo(t *testing.T) {
	golden.Compare(t, golden.Render(t, cloudformation.Target.Target, golden.Demo(t)))
}

// definition is a fleet of some machines, each on the network quay.
func definition(names ...string) *fleet.Fleet {
	return golden.OnCloud(fleet.Platform{Name: "cloudformation", Region: "eu-north-1"}, "ami-1", names...)
}

func template(t *testing.T, f *fleet.Fleet) golden.Document {
	t.Helper()
	f.Complete()
	files, err := render.All(context.Background(), cloudformation.Target.Target, f, render.Options{})
	if err != nil {
		t.Fatal(err)
	}
	return golden.Read(t, files[0].Data)
}

// TestFastDisks looks at volumes whose throughput an instance's own mapping can't have,
// and whose operations their size limits.
func TestFastDisks(t *testing.T) {
	f := definition("almanac")
	f.Machines[0].Disks = []*fleet.Disk{{Name: "root", Size: 8 * fleet.GiB, Speed: fleet.Fast},
		{Name: "small", Size: fleet.GiB, Speed: fleet.Fast}, {Name: "large", Size: 40 * fleet.GiB, Speed: fleet.Fast}}
	document := template(t, f)
	document.Wants(t, map[string]any{"Resources/Almanac/Properties/BlockDeviceMappings": nil})
	const mappings = "Resources/AlmanacLaunch/Properties/LaunchTemplateData/BlockDeviceMappings/"
	for i, operations := range []int{4000, 3000, 6000} {
		document.Wants(t, map[string]any{fmt.Sprintf("%s%d/Ebs/Iops", mappings, i): operations})
		document.Wants(t, map[string]any{fmt.Sprintf("%s%d/Ebs/Throughput", mappings, i): 250})
	}
}

// TestNames gives machines the names of what the stack makes itself, and names that
// make the same words.
func TestNames(t *testing.T) {
	names := []string{"network", "gateway", "route-table", "web", "web-public", "web-launch"}
	f := definition(names...)
	for _, m := range f.Machines {
		m.PublicAddress = true
	}
	document := template(t, f)
	machines := 0
	for _, resource := range document.At("Resources").(map[string]any) {
		if resource.(map[string]any)["Type"] == "AWS::EC2::Instance" {
			machines++
		}
	}
	outputs := len(document.At("Outputs").(map[string]any))
	if machines != len(names) || outputs != 2*len(names) {
		t.Errorf("%d machines with %d outputs are left of %d with two each", machines, outputs, len(names))
	}
	document.Wants(t, map[string]any{"Resources/Network/Type": "AWS::EC2::VPC"})
	document.Wants(t, map[string]any{"Resources/Gateway/Type": "AWS::EC2::InternetGateway"})
}

// TestNetworks looks at ranges, zones, and subnets that exist already.
func TestNetworks(t *testing.T) {
	add := func(f *fleet.Fleet, subnet string) {
		f.Networks = append(f.Networks, &fleet.Network{Name: "reef", Mode: fleet.Isolated,
			Subnet: netip.MustParsePrefix(subnet)})
		f.Machines[0].NICs = append([]*fleet.NIC{{Name: "reef", Network: "reef",
			Address: netip.MustParsePrefix(subnet).Addr().Next().Next().Next().Next().Next()}}, f.Machines[0].NICs...)
		f.Machines[0].NICs[1].Primary = true
	}
	const machine, network = "Resources/Almanac/Properties/", "Resources/Network/Properties/"
	for _, c := range []struct {
		what   string
		change func(f *fleet.Fleet)
		want   map[string]any
	}{
		{"one range covers two subnets", func(f *fleet.Fleet) { add(f, "10.44.9.0/24") }, map[string]any{
			network + "CidrBlock": "10.44.0.0/20", "Resources/RangeReef": nil,
			"Resources/SubnetReef/Properties/CidrBlock": "10.44.9.0/24"}},
		{"none covers them", func(f *fleet.Fleet) { add(f, "10.200.9.0/24") }, map[string]any{
			network + "CidrBlock": "10.44.7.0/24", "Resources/RangeReef/Properties/CidrBlock": "10.200.9.0/24"}},
		{"the primary interface comes first", func(f *fleet.Fleet) { add(f, "10.44.9.0/24") }, map[string]any{
			machine + "NetworkInterfaces/0/NetworkInterfaceId/Ref": "AlmanacInterfaceQuay"}},
		{"a single interface is part of the machine", func(*fleet.Fleet) {}, map[string]any{
			machine + "NetworkInterfaces/0/SubnetId/Ref": "SubnetQuay", machine + "NetworkInterfaces/0/DeviceIndex": "0"}},
		{"the machine waits for its route", func(*fleet.Fleet) {}, map[string]any{
			"Resources/Almanac/DependsOn": "[RouteOut RoutesQuay]"}},
		{"a zone moves the subnet", func(f *fleet.Fleet) { f.Machines[0].Zone = "eu-north-1b" }, map[string]any{
			machine + "AvailabilityZone": "eu-north-1b", "Resources/SubnetQuay/Properties/AvailabilityZone": "eu-north-1b"}},
		{"the platform's zone comes before the general one", func(f *fleet.Fleet) {
			f.Machines[0].Zone, f.Platforms[0].Zone = "eu-1", "eu-north-1c"
		}, map[string]any{machine + "AvailabilityZone": "eu-north-1c"}},
		{"a subnet of the machine's own", func(f *fleet.Fleet) {
			f.Machines[0].Platforms = []*fleet.Platform{{Name: "cloudformation", Network: "subnet-1",
				Settings: []fleet.Pair{{Key: "vpc", Value: "vpc-1"}}}}
		}, map[string]any{machine + "NetworkInterfaces/0/SubnetId": "subnet-1", "Resources/Network": nil,
			"Resources/FirewallClosedVpc1/Properties/VpcId": "vpc-1"}},
		{"no group without a network", func(f *fleet.Fleet) { f.Platforms[0].Network = "subnet-1" }, map[string]any{
			"Resources/FirewallClosedREPLACEVpc/Properties/VpcId": "REPLACE-vpc"}},
		{"an isolated address on another's subnet", func(f *fleet.Fleet) {
			add(f, "10.44.9.0/24")
			f.Platforms[0].Network = "subnet-1"
		}, map[string]any{"Resources/AlmanacInterfaceReef/Properties/PrivateIpAddress": nil}},
		{"capacity that comes back", func(f *fleet.Fleet) { f.Machines[0].Interruptible = true }, map[string]any{
			"Resources/AlmanacLaunch/Properties/LaunchTemplateData/InstanceMarketOptions/SpotOptions/" +
				"InstanceInterruptionBehavior": "stop"}},
	} {
		t.Run(c.what, func(t *testing.T) {
			f := definition("almanac")
			c.change(f)
			template(t, f).Wants(t, c.want)
		})
	}
}

func TestNeeds(t *testing.T) {
	for _, c := range []struct {
		rule   string
		change func(f *fleet.Fleet)
	}{
		{"zones-on-one-subnet", func(f *fleet.Fleet) { f.Machines[1].Zone = "eu-north-1b" }},
		{"placeholder-left", func(f *fleet.Fleet) { f.Platforms[0].Network = "subnet-1" }},
		{"subnet-of-platform", func(f *fleet.Fleet) {
			f.Networks = append(f.Networks, &fleet.Network{Name: "reef", Mode: fleet.Isolated,
				Subnet: netip.MustParsePrefix("192.168.9.0/24")})
			f.Machines[0].NICs = append(f.Machines[0].NICs, &fleet.NIC{Name: "reef", Network: "reef"})
		}},
		{"label-refused", func(f *fleet.Fleet) { f.Machines[0].Labels = []fleet.Pair{{Key: "Name", Value: "x"}} }},
	} {
		t.Run(c.rule, func(t *testing.T) {
			f := definition("almanac", "store")
			c.change(f)
			f.Complete()
			found := map[string]bool{}
			for _, m := range f.Machines {
				for _, need := range cloudformation.Target.Needs(f, m) {
					found[need.Rule] = true
				}
			}
			if !found[c.rule] {
				t.Errorf("%s is not among %v", c.rule, found)
			}
		})
	}
}

// TestProgramFindsVolumes runs the program that finds volumes by their names, where there
// are none: it has to be one that the language takes.
func TestProgramFindsVolumes(t *testing.T) {
	python, err := exec.LookPath("python3")
	if err != nil {
		t.Skip("python3 is not installed here")
	}
	f := definition("almanac")
	f.Machines[0].Disks = []*fleet.Disk{{Name: "root", Size: 8 * fleet.GiB},
		{Name: "pages", Size: fleet.GiB, FileSystem: "ext4", Mount: "/srv"}}
	data, _ := template(t, f).At("Resources/Almanac/Properties/UserData/Fn::Base64").(string)
	_, program, found := strings.Cut(data, `python3 -c '`)
	program, _, ended := strings.Cut(program, `' sdf`)
	if !found || !ended {
		t.Fatalf("no program in\n%s", data)
	}
	program = strings.NewReplacer(`\n`, "\n", `\"`, `"`, `\\`, `\`).Replace(program)
	path := filepath.Join(t.TempDir(), "find.py")
	if err := os.WriteFile(path, []byte(program), 0o644); err != nil {
		t.Fatal(err)
	}
	if out, err := exec.Command(python, path, "sdz").CombinedOutput(); err != nil || len(out) > 0 {
		t.Errorf("%v\n%s\n%s", err, out, program)
	}
}
