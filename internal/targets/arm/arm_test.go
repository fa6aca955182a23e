package arm_test

import (
	"net/netip"
	"strings"
	"testing"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/golden"
	"stavren.example/stavren/internal/targets/arm"
	"stavren.example/stavren/render"
)

func TestDemo(t *testing.T) {
	golden.Compare(t, golden.Render(t, arm.Target.Target, golden.Demo(t)))
}

// definition is a fleet of some machines, each on the network quay.
func definition(names ...string) *fleet.Fleet {
	return golden.OnCloud(fleet.Platform{Name: "arm", Region: "northeurope"}, "Debian:debian-12:12:1", names...)
}

func template(t *testing.T, f *fleet.Fleet) golden.Document {
	t.Helper()
	f.Complete()
	return golden.Read(t, golden.Render(t, arm.Target.Target, f)["tide-office.arm.json"].Data)
}

const (
	machineKind = "Microsoft.Compute/virtualMachines"
	groupKind   = "Microsoft.Network/networkSecurityGroups"
)

// TestVersions looks at the version of each type of resource.
func TestVersions(t *testing.T) {
	f := definition("almanac")
	f.Machines[0].Disks = []*fleet.Disk{{Name: "root", Size: 30 * fleet.GiB}, {Name: "pages", Size: fleet.GiB}}
	document := template(t, f)
	for kind, version := range map[string]string{"Microsoft.Compute/disks almanac-pages": "2023-10-02",
		machineKind + " almanac": "2023-09-01", "Microsoft.Network/virtualNetworks tide-office": "2023-09-01"} {
		t.Run(kind, func(t *testing.T) {
			resourceType, name, _ := strings.Cut(kind, " ")
			document.Named("resources", resourceType, name).Wants(t, map[string]any{"apiVersion": version})
		})
	}
}

// TestImages looks at the forms of an image's id.
func TestImages(t *testing.T) {
	for _, c := range []struct {
		id   string
		want map[string]any
	}{
		{"Debian:debian-12:12-gen2:latest", map[string]any{"properties/storageProfile/imageReference/sku": "12-gen2", "plan": nil}},
		{"maker:offer:sku:1.0:plan", map[string]any{"plan/name": "sku", "plan/product": "offer", "plan/publisher": "maker",
			"properties/storageProfile/imageReference/version": "1.0"}},
		{"/subscriptions/s/images/i", map[string]any{"properties/storageProfile/imageReference/id": "/subscriptions/s/images/i"}},
		{"/CommunityGalleries/g/Images/i/Versions/1", map[string]any{
			"properties/storageProfile/imageReference/communityGalleryImageId": "/CommunityGalleries/g/Images/i/Versions/1",
			"properties/storageProfile/imageReference/id":                      nil}},
	} {
		t.Run(c.id, func(t *testing.T) {
			f := definition("almanac")
			f.Images[0].IDs[0].Value = c.id
			template(t, f).Named("resources", machineKind, "almanac").Wants(t, c.want)
		})
	}
}

// TestNames gives machines and their interfaces names that make the same words.
func TestNames(t *testing.T) {
	f := definition("web", "web-public", "web-a")
	f.Networks = append(f.Networks, &fleet.Network{Name: "reef", Mode: fleet.NAT, Subnet: netip.MustParsePrefix("10.44.9.0/24")})
	f.Machines[0].NICs = append(f.Machines[0].NICs, &fleet.NIC{Name: "a-b", Network: "reef"})
	f.Machines[2].NICs = []*fleet.NIC{{Name: "b", Network: "quay"}}
	for _, m := range f.Machines {
		m.PublicAddress = true
	}
	document := template(t, f)
	seen := map[string]bool{}
	for _, resource := range document.At("resources").([]any) {
		of := resource.(map[string]any)
		name := of["type"].(string) + " " + of["name"].(string)
		if seen[name] {
			t.Errorf("%s is there twice", name)
		}
		seen[name] = true
	}
	if outputs := len(document.At("outputs").(map[string]any)); outputs != 6 {
		t.Errorf("%d outputs are left of 6", outputs)
	}
}

// TestNetworks looks at groups, and at subnets that exist already.
func TestNetworks(t *testing.T) {
	f := definition("almanac", "store")
	f.Networks[0].Mode = fleet.Isolated
	f.Machines[0].Firewall = []string{"office"}
	f.Machines[0].Identity.Account = "tides"
	f.Machines[1].Identity.Account = "/subscriptions/s/resourceGroups/g/providers/Microsoft.ManagedIdentity/userAssignedIdentities/i"
	f.Machines[1].Platforms = []*fleet.Platform{{Name: "arm", Network: "/subscriptions/s/subnets/quay"}}
	document := template(t, f)
	document.Named("resources", groupKind, "firewall-office-inside").Wants(t, map[string]any{
		"properties/securityRules/0/properties/sourceAddressPrefix":      "198.51.100.0/24",
		"properties/securityRules/1/properties/sourceAddressPrefix":      "2001:db8::/32",
		"properties/securityRules/3/properties/destinationAddressPrefix": "Internet",
		"properties/securityRules/3/properties/direction":                "Outbound",
	})
	document.Named("resources", "Microsoft.Network/networkInterfaces", "store-quay").Wants(t, map[string]any{
		"properties/ipConfigurations/0/properties/subnet/id": "/subscriptions/s/subnets/quay"})
	document.Named("resources", "Microsoft.ManagedIdentity/userAssignedIdentities", "tides").Wants(t, map[string]any{
		"apiVersion": "2023-01-31"})
	for _, name := range []string{"almanac", "store"} {
		identities := document.Named("resources", machineKind, name).At("identity/userAssignedIdentities").(map[string]any)
		for id := range identities {
			if strings.HasPrefix(id, "[resourceId") != (name == "almanac") {
				t.Errorf("%s has the identity %s", name, id)
			}
		}
	}
}

func TestNeeds(t *testing.T) {
	for _, c := range []struct {
		rule   string
		change func(f *fleet.Fleet)
	}{
		{"subnet-of-platform", func(f *fleet.Fleet) { f.Networks[0] = &fleet.Network{Name: "quay", Mode: fleet.Bridged} }},
		{"address-of-platform", func(f *fleet.Fleet) { f.Machines[0].NICs[0].Address = netip.MustParseAddr("10.44.7.3") }},
		{"no-tpm", func(f *fleet.Fleet) {
			f.Images[0].Arch, f.Machines[0].Firmware = "arm64", fleet.Firmware{Kind: fleet.UEFI, TPM: true}
		}},
	} {
		t.Run(c.rule, func(t *testing.T) {
			f := definition("almanac")
			c.change(f)
			f.Complete()
			found := ""
			for _, need := range arm.Target.Needs(f, f.Machines[0]) {
				found += need.Rule + " "
			}
			if !strings.Contains(found, c.rule+" ") {
				t.Errorf("%s is not among %s", c.rule, found)
			}
		})
	}
}

// TestRequest looks at the request that is printed for those without the program.
func TestRequest(t *testing.T) {
	f := golden.Demo(t)
	steps := arm.Target.Steps(&render.Job{Fleet: f}, f.Machines)
	if last := steps[len(steps)-1]; !strings.Contains(last.Request, `"parameters": the parameters in tide-office.arm.parameters.json`) {
		t.Errorf("the request is\n%s", last.Request)
	}
}
