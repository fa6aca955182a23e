package conformance

import (
	"encoding/base64"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"sort"
	"strings"
	"testing"

	"go.yaml.in/yaml/v4"

	"stavren.example/stavren"
	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/golden"
	"stavren.example/stavren/internal/target/cloud"
	"stavren.example/stavren/render"
)

func rendering(t *testing.T, name string, f *fleet.Fleet) map[string]render.File {
	t.Helper()
	target, err := stavren.Target(name)
	if err != nil {
		t.Fatal(err)
	}
	return golden.Render(t, target, f)
}

func decoded(t *testing.T, file render.File) map[string]any {
	t.Helper()
	var document map[string]any
	var err error
	if strings.HasSuffix(file.Name, ".yaml") {
		err = yaml.Load(file.Data, &document)
	} else {
		err = json.Unmarshal(file.Data, &document)
	}
	if err != nil {
		t.Fatalf("%s: %v", file.Name, err)
	}
	return document
}

// walk visits every map of a document, with the path to it.
func walk(value any, path string, visit func(path string, m map[string]any)) {
	switch value := value.(type) {
	case map[string]any:
		visit(path, value)
		for key, part := range value {
			walk(part, path+"."+key, visit)
		}
	case []any:
		for i, part := range value {
			walk(part, fmt.Sprintf("%s.%d", path, i), visit)
		}
	}
}

// at follows a path of keys and numbers.
func at(t *testing.T, value any, path string) any {
	t.Helper()
	for _, key := range strings.Split(path, "/") {
		switch part := value.(type) {
		case map[string]any:
			value = part[key]
		case []any:
			var i int
			if _, err := fmt.Sscan(key, &i); err != nil || i >= len(part) {
				t.Fatalf("no %s in %v", path, part)
			}
			value = part[i]
		default:
			t.Fatalf("no %s", path)
		}
	}
	return value
}

// busy is the demo with what it does not ask for itself.
func busy(t *testing.T) *fleet.Fleet {
	f := golden.Demo(t)
	almanac := f.Machine("almanac")
	almanac.Interruptible, almanac.WhenStopped = true, fleet.RemoveStopped
	almanac.Identity = fleet.Identity{Account: "tides@skerry.example", Scopes: []string{"storage-read"}}
	almanac.Ports = append(almanac.Ports, &fleet.Port{Name: "gopher", Machine: 70})
	almanac.Disks = append(almanac.Disks, &fleet.Disk{Name: "extra", Size: 7 * fleet.GiB, FileSystem: "xfs", Mount: "/srv/extra"})
	f.Machine("store").PublicAddress = true
	f.Machine("harbour-log").Firewall = nil
	f.Firewalls = append(f.Firewalls, &fleet.Firewall{Name: "all", Allow: []*fleet.Allowance{{Port: fleet.PortRange{Protocol: fleet.AnyProtocol}}}})
	f.Machine("gauge-2").Firewall = append(f.Machine("gauge-2").Firewall, "all")
	f.Complete()
	return f
}

var clouds = []string{"heat", "cloudformation", "arm", "gce", "oci", "droplet"}

// knownProperties are the properties of each resource type that the platforms'
// public references list, as far as they are used or could be.
var knownProperties = map[string]string{
	"OS::Neutron::SecurityGroup":   "name description rules",
	"OS::Nova::KeyPair":            "name public_key save_private_key type user",
	"OS::Neutron::Net":             "name admin_state_up shared port_security_enabled value_specs",
	"OS::Neutron::Subnet":          "name network cidr gateway_ip enable_dhcp dns_nameservers allocation_pools ip_version host_routes",
	"OS::Neutron::Port":            "name network fixed_ips security_groups allowed_address_pairs mac_address port_security_enabled",
	"OS::Cinder::Volume":           "name size volume_type availability_zone image description metadata",
	"OS::Cinder::VolumeAttachment": "instance_uuid volume_id mountpoint",
	"OS::Nova::Server":             "name image flavor key_name networks availability_zone metadata user_data_format user_data block_device_mapping_v2 config_drive",
	"OS::Neutron::FloatingIP":      "floating_network port_id fixed_ip_address",

	"AWS::EC2::VPC":                         "CidrBlock EnableDnsSupport EnableDnsHostnames InstanceTenancy Tags",
	"AWS::EC2::VPCCidrBlock":                "VpcId CidrBlock",
	"AWS::EC2::Subnet":                      "VpcId CidrBlock AvailabilityZone MapPublicIpOnLaunch Tags",
	"AWS::EC2::InternetGateway":             "Tags",
	"AWS::EC2::VPCGatewayAttachment":        "VpcId InternetGatewayId",
	"AWS::EC2::RouteTable":                  "VpcId Tags",
	"AWS::EC2::Route":                       "RouteTableId DestinationCidrBlock GatewayId",
	"AWS::EC2::SubnetRouteTableAssociation": "SubnetId RouteTableId",
	"AWS::EC2::SecurityGroup":               "GroupDescription GroupName VpcId SecurityGroupIngress SecurityGroupEgress Tags",
	"AWS::EC2::KeyPair":                     "KeyName PublicKeyMaterial KeyType Tags",
	"AWS::EC2::NetworkInterface":            "SubnetId PrivateIpAddress GroupSet Description SourceDestCheck Tags",
	"AWS::EC2::LaunchTemplate":              "LaunchTemplateName LaunchTemplateData TagSpecifications",
	"AWS::EC2::Instance":                    "ImageId InstanceType AvailabilityZone LaunchTemplate KeyName IamInstanceProfile NetworkInterfaces BlockDeviceMappings InstanceInitiatedShutdownBehavior UserData Tags",
	"AWS::EC2::EIP":                         "Domain Tags",
	"AWS::EC2::EIPAssociation":              "AllocationId NetworkInterfaceId InstanceId",

	"Microsoft.Network/networkSecurityGroups": "securityRules",
	"Microsoft.Network/virtualNetworks":       "addressSpace subnets",
	"Microsoft.Network/publicIPAddresses":     "publicIPAllocationMethod dnsSettings idleTimeoutInMinutes",
	"Microsoft.Network/networkInterfaces":     "networkSecurityGroup ipConfigurations enableAcceleratedNetworking",
	"Microsoft.Compute/disks":                 "creationData diskSizeGB",
	"Microsoft.Compute/virtualMachines":       "hardwareProfile storageProfile osProfile networkProfile securityProfile priority evictionPolicy billingProfile",
}

func checkProperties(t *testing.T, kind string, properties any) {
	t.Helper()
	known, listed := knownProperties[kind]
	if !listed {
		t.Errorf("resource type %s is not known", kind)
	}
	of, _ := properties.(map[string]any)
	for key := range of {
		if !slices.Contains(strings.Fields(known), key) {
			t.Errorf("%s has no property %s", kind, key)
		}
	}
}

func TestHeatReferences(t *testing.T) {
	document := decoded(t, rendering(t, "heat", busy(t))["tide-office.heat.yaml"])
	resources := document["resources"].(map[string]any)
	for name, resource := range resources {
		checkProperties(t, at(t, resource, "type").(string), resource.(map[string]any)["properties"])
		if kind := at(t, resource, "type"); kind == "OS::Nova::Server" && at(t, resource, "properties/user_data_format") != "RAW" {
			t.Errorf("%s has no raw user data", name)
		}
	}
	walk(document, "", func(path string, m map[string]any) {
		if to, is := m["get_resource"]; is && resources[fmt.Sprint(to)] == nil {
			t.Errorf("%s leads to %v, which is not there", path, to)
		}
		if to, is := m["get_attr"].([]any); is && resources[fmt.Sprint(to[0])] == nil {
			t.Errorf("%s leads to %v, which is not there", path, to)
		}
		if replace, is := m["str_replace"].(map[string]any); is {
			text := replace["template"].(string)
			for param := range replace["params"].(map[string]any) {
				if !strings.Contains(text, param) {
					t.Errorf("%s replaces %s, which the text does not hold", path, param)
				}
			}
			if left := regexp.MustCompile(`@volume-[a-z0-9-]+@`).FindAllString(text, -1); len(left) < len(replace["params"].(map[string]any)) {
				t.Errorf("%s: %v", path, left)
			}
		}
	})
	if at(t, resources, "almanac_disk_pages/deletion_policy") != "Retain" || resources["almanac_disk_extra"].(map[string]any)["deletion_policy"] != nil {
		t.Error("disks are kept or removed otherwise than asked")
	}
}

func TestCloudFormationReferences(t *testing.T) {
	document := decoded(t, rendering(t, "cloudformation", busy(t))["tide-office.cloudformation.json"])
	resources := document["Resources"].(map[string]any)
	for id, resource := range resources {
		if !regexp.MustCompile(`^[A-Za-z0-9]{1,255}$`).MatchString(id) {
			t.Errorf("logical name %q", id)
		}
		checkProperties(t, at(t, resource, "Type").(string), resource.(map[string]any)["Properties"])
	}
	walk(document, "", func(path string, m map[string]any) {
		for _, key := range []string{"Ref", "DependsOn"} {
			if to, is := m[key]; is && resources[fmt.Sprint(to)] == nil {
				t.Errorf("%s.%s leads to %v, which is not there", path, key, to)
			}
		}
		if to, is := m["Fn::GetAtt"].([]any); is && resources[fmt.Sprint(to[0])] == nil {
			t.Errorf("%s leads to %v, which is not there", path, to)
		}
	})
	if at(t, resources, "AlmanacLaunch/Properties/LaunchTemplateData/InstanceMarketOptions/MarketType") != "spot" ||
		at(t, resources, "StoreLaunch/Properties/LaunchTemplateData/MetadataOptions/HttpTokens") != "required" ||
		at(t, resources, "Almanac/Properties/InstanceInitiatedShutdownBehavior") != "terminate" ||
		at(t, resources, "Almanac/Properties/BlockDeviceMappings/1/Ebs/DeleteOnTermination") != false ||
		at(t, resources, "Almanac/Properties/BlockDeviceMappings/2/Ebs/DeleteOnTermination") != true {
		t.Error("capacity, metadata or disks are otherwise than asked")
	}
}

func TestARMReferences(t *testing.T) {
	files := rendering(t, "arm", busy(t))
	document := decoded(t, files["tide-office.arm.json"])
	there := map[string]bool{}
	for _, resource := range document["resources"].([]any) {
		there["'"+at(t, resource, "type").(string)+"', '"+at(t, resource, "name").(string)+"'"] = true
		checkProperties(t, at(t, resource, "type").(string), at(t, resource, "properties"))
	}
	find := regexp.MustCompile(`resourceId\(([^)]*)\)`)
	for _, resource := range document["resources"].([]any) {
		name := at(t, resource, "name").(string)
		after := map[string]bool{}
		list, _ := resource.(map[string]any)["dependsOn"].([]any)
		for _, on := range list {
			id := find.FindStringSubmatch(on.(string))[1]
			if !there[id] {
				t.Errorf("%s depends on %s, which is not there", name, id)
			}
			after[id] = true
		}
		text, err := json.Marshal(at(t, resource, "properties"))
		if err != nil {
			t.Fatal(err)
		}
		for _, match := range find.FindAllStringSubmatch(string(text), -1) {
			id := match[1]
			if rest, is := strings.CutPrefix(id, "'Microsoft.Network/virtualNetworks/subnets', "); is {
				network, _, _ := strings.Cut(rest, ", ")
				id = "'Microsoft.Network/virtualNetworks', " + network
			}
			if !after[id] {
				t.Errorf("%s uses %s and does not depend on it", name, id)
			}
		}
		if at(t, resource, "type") == "Microsoft.Network/networkSecurityGroups" {
			seen := map[float64]bool{}
			for _, rule := range at(t, resource, "properties/securityRules").([]any) {
				priority := at(t, rule, "properties/priority").(float64)
				if seen[priority] || priority < 100 || priority > 4096 {
					t.Errorf("%s: priority %v", name, priority)
				}
				seen[priority] = true
			}
		}
	}
	walk(document, "", func(path string, m map[string]any) {
		for key, value := range m {
			text, _ := value.(string)
			if use := regexp.MustCompile(`parameters\('([^']*)'\)`).FindStringSubmatch(text); use != nil && document["parameters"].(map[string]any)[use[1]] == nil {
				t.Errorf("%s.%s uses the parameter %s, which is not there", path, key, use[1])
			}
		}
	})
	// A secret is in no value of the template, only in the file of parameters.
	for name, file := range files {
		holds := strings.Contains(string(file.Data), base64.StdEncoding.EncodeToString([]byte("PGPASSWORD"))[:8])
		if holds && (file.Mode != 0o600 || name == "tide-office.arm.json") {
			t.Errorf("%s, mode %v, holds a secret", name, file.Mode)
		}
	}
	if at(t, document, "parameters/store_first_boot/type") != "securestring" || at(t, document, "parameters/ferry_desk_password/type") != "securestring" {
		t.Error("secrets are parameters of another type")
	}
}

func TestGCETags(t *testing.T) {
	files := rendering(t, "gce", busy(t))
	targets := map[string]bool{}
	for name, file := range files {
		if strings.HasPrefix(name, "firewall-") {
			body := decoded(t, file)
			for _, tag := range body["targetTags"].([]any) {
				targets[tag.(string)] = true
			}
			if !regexp.MustCompile(`^[a-z]([a-z0-9-]{0,61}[a-z0-9])?$`).MatchString(body["name"].(string)) {
				t.Errorf("%s has the name %v", name, body["name"])
			}
		}
	}
	for name, file := range files {
		if !strings.HasSuffix(name, "/instance.json") {
			continue
		}
		body := decoded(t, file)
		for _, tag := range at(t, body, "tags/items").([]any) {
			if !targets[tag.(string)] && tag != "tide-office-closed" {
				t.Errorf("%s has the tag %v, which no firewall names", name, tag)
			}
		}
	}
	almanac := decoded(t, files["almanac/instance.json"])
	if at(t, almanac, "scheduling/provisioningModel") != "SPOT" || at(t, almanac, "scheduling/instanceTerminationAction") != "DELETE" ||
		at(t, almanac, "disks/1/autoDelete") != false || at(t, almanac, "serviceAccounts/0/email") != "tides@skerry.example" {
		t.Errorf("%v", almanac)
	}
}

// opening is who may come in where, in one form for all platforms.
type opening struct{ machine, protocol, ports, from string }

// asked is what the definition opens.
func asked(f *fleet.Fleet) []opening {
	var list []opening
	for _, m := range f.Machines {
		for _, set := range cloud.Sets(f, []*fleet.Machine{m}) {
			for _, rule := range set.Rules {
				ports := "all"
				if rule.First > 0 {
					ports = fmt.Sprintf("%d-%d", rule.First, rule.Last)
				}
				for _, from := range rule.From {
					list = append(list, opening{m.Name, string(rule.Protocol), ports, from})
				}
			}
		}
	}
	return sorted(list)
}

func sorted(list []opening) []opening {
	sort.Slice(list, func(i, j int) bool { return fmt.Sprint(list[i]) < fmt.Sprint(list[j]) })
	return slices.Compact(list)
}

// TestNothingElseIsOpened reads the rules back out of each format and compares
// them with the definition's: sources, protocols and ranges survive, and nothing
// is opened that was not asked for.
func TestNothingElseIsOpened(t *testing.T) {
	f := busy(t)
	want := asked(f)
	word := map[string]string{"tcp": "tcp", "udp": "udp", "icmp": "icmp", "icmpv6": "icmp", "ipv6-icmp": "icmp", "58": "icmp", "-1": "any", "all": "any", "<nil>": "any",
		"Tcp": "tcp", "Udp": "udp", "Icmp": "icmp", "*": "any"}
	ports := func(first, last any) string {
		if first == nil || fmt.Sprint(first) == "-1" {
			return "all"
		}
		return fmt.Sprintf("%v-%v", first, last)
	}
	compare := func(name string, got []opening) {
		t.Helper()
		if got = sorted(got); !slices.Equal(got, want) {
			for _, o := range got {
				if !slices.Contains(want, o) {
					t.Errorf("%s opens %v, which nobody asked for", name, o)
				}
			}
			for _, o := range want {
				if !slices.Contains(got, o) {
					t.Errorf("%s does not open %v", name, o)
				}
			}
		}
	}

	heat := decoded(t, rendering(t, "heat", f)["tide-office.heat.yaml"])["resources"].(map[string]any)
	var got []opening
	for _, m := range f.Machines {
		for _, group := range at(t, heat, m.Name+"_port_"+m.NICs[0].Name+"/properties/security_groups").([]any) {
			rules, _ := heat[at(t, group, "get_resource").(string)].(map[string]any)["properties"].(map[string]any)["rules"].([]any)
			for _, rule := range rules {
				r := rule.(map[string]any)
				got = append(got, opening{m.Name, word[fmt.Sprint(r["protocol"])], ports(r["port_range_min"], r["port_range_max"]), r["remote_ip_prefix"].(string)})
			}
		}
	}
	compare("heat", got)

	cfn := decoded(t, rendering(t, "cloudformation", f)["tide-office.cloudformation.json"])["Resources"].(map[string]any)
	got = nil
	for _, resource := range cfn {
		if at(t, resource, "Type") != "AWS::EC2::Instance" {
			continue
		}
		name := strings.TrimPrefix(at(t, resource, "Properties/Tags/0/Value").(string), "tide-office-")
		nic := at(t, resource, "Properties/NetworkInterfaces/0/NetworkInterfaceId/Ref").(string)
		for _, group := range at(t, cfn, nic+"/Properties/GroupSet").([]any) {
			rules, _ := at(t, cfn, at(t, group, "Fn::GetAtt/0").(string)+"/Properties").(map[string]any)["SecurityGroupIngress"].([]any)
			for _, rule := range rules {
				r := rule.(map[string]any)
				from, is := r["CidrIp"].(string)
				if !is {
					from = r["CidrIpv6"].(string)
				}
				got = append(got, opening{name, word[r["IpProtocol"].(string)], ports(r["FromPort"], r["ToPort"]), from})
			}
		}
	}
	compare("cloudformation", got)

	gce := rendering(t, "gce", f)
	got = nil
	for _, m := range f.Machines {
		tags := fmt.Sprint(at(t, decoded(t, gce[m.Name+"/instance.json"]), "tags/items"))
		for name, file := range gce {
			if !strings.HasPrefix(name, "firewall-") {
				continue
			}
			body := decoded(t, file)
			if !slices.Contains(strings.Fields(strings.Trim(tags, "[]")), at(t, body, "targetTags/0").(string)) {
				continue
			}
			for _, allowed := range body["allowed"].([]any) {
				r := allowed.(map[string]any)
				open := "all"
				if r["ports"] != nil {
					open = at(t, r, "ports/0").(string)
					if !strings.Contains(open, "-") {
						open += "-" + open
					}
				}
				for _, from := range body["sourceRanges"].([]any) {
					got = append(got, opening{m.Name, word[r["IPProtocol"].(string)], open, from.(string)})
				}
			}
		}
	}
	compare("gce", got)

	arm := decoded(t, rendering(t, "arm", f)["tide-office.arm.json"])
	byName := map[string]any{}
	for _, resource := range arm["resources"].([]any) {
		byName[at(t, resource, "type").(string)+" "+at(t, resource, "name").(string)] = resource
	}
	got = nil
	for _, m := range f.Machines {
		nic := byName["Microsoft.Network/networkInterfaces "+m.Name+"-"+m.NICs[0].Name]
		id := at(t, nic, "properties/networkSecurityGroup/id").(string)
		group := byName["Microsoft.Network/networkSecurityGroups "+strings.Split(id, "'")[3]]
		for _, rule := range at(t, group, "properties/securityRules").([]any) {
			r := at(t, rule, "properties").(map[string]any)
			if r["access"] == "Deny" {
				continue
			}
			open := r["destinationPortRange"].(string)
			switch {
			case open == "*":
				open = "all"
			case !strings.Contains(open, "-"):
				open += "-" + open
			}
			from := []any{r["sourceAddressPrefix"]}
			if from[0] == "*" {
				from = []any{"0.0.0.0/0", "::/0"}
			} else if from[0] == nil {
				from = r["sourceAddressPrefixes"].([]any)
			}
			for _, prefix := range from {
				got = append(got, opening{m.Name, word[r["protocol"].(string)], open, prefix.(string)})
			}
		}
	}
	compare("arm", got)
}

// userDataOf reads a machine's user data back out of a format.
func userDataOf(t *testing.T, target string, files map[string]render.File, m *fleet.Machine) string {
	t.Helper()
	plain := func(text any) string { return text.(string) }
	unpacked := func(text any) string {
		data, err := base64.StdEncoding.DecodeString(text.(string))
		if err != nil {
			t.Fatal(err)
		}
		return string(data)
	}
	switch target {
	case "heat":
		data := at(t, decoded(t, files["hostile.heat.yaml"]), "resources/"+m.Name+"/properties/user_data")
		if replaced, is := data.(map[string]any); is {
			data = at(t, replaced, "str_replace/template")
		}
		return plain(data)
	case "cloudformation":
		return plain(at(t, decoded(t, files["hostile.cloudformation.json"]), "Resources/Tide/Properties/UserData/Fn::Base64"))
	case "arm":
		for _, resource := range decoded(t, files["hostile.arm.json"])["resources"].([]any) {
			if at(t, resource, "type") == "Microsoft.Compute/virtualMachines" {
				return unpacked(at(t, resource, "properties/osProfile/customData"))
			}
		}
	case "gce":
		return plain(at(t, decoded(t, files["tide/instance.json"]), "metadata/items/0/value"))
	case "oci":
		return unpacked(at(t, decoded(t, files["tide/instance.json"]), "metadata/user_data"))
	case "droplet":
		return plain(at(t, decoded(t, files["tide/droplet.json"]), "user_data"))
	}
	t.Fatalf("no user data for %s", target)
	return ""
}

// TestHostileTextsInClouds puts every hostile text into a file of the first boot
// and into labels, and reads both back.
func TestHostileTextsInClouds(t *testing.T) {
	for _, name := range clouds {
		target, err := stavren.Target(name)
		if err != nil {
			t.Fatal(err)
		}
		carried := 0
		for _, text := range hostile {
			f := load(t, "    users: {mira: {keys: [ops]}}\n    resources: {cpus: 1, memory: 1GiB}\n    first_boot: {files: {/etc/tide: {text: %s}}}\nkeys: {ops: {text: \""+opsKey+"\"}}\nplatforms: {heat: {sizes: {small: {cpus: 1, memory: 1GiB}}}}", text)
			if f == nil || refuses(target, f) {
				continue
			}
			carried++
			files := golden.Render(t, target, f)
			data := userDataOf(t, name, files, f.Machines[0])
			var document struct {
				Files []struct {
					Content, Encoding string
				} `yaml:"write_files"`
			}
			if err := yaml.Load([]byte(data), &document); err != nil {
				t.Fatalf("%s: %v\n%s", name, err, data)
			}
			got := document.Files[0].Content
			if document.Files[0].Encoding == "b64" {
				raw, err := base64.StdEncoding.DecodeString(got)
				if err != nil {
					t.Fatal(err)
				}
				got = string(raw)
			}
			if got != f.Machines[0].FirstBoot.Files[0].Text {
				t.Errorf("%s: %.60q came back as %.60q", name, text, got)
			}
		}
		if carried < len(hostile)/2 {
			t.Errorf("%s takes %d texts of %d", name, carried, len(hostile))
		}
		labelled := load(t, "    users: {mira: {keys: [ops]}}\n    labels: {note: %s}\nkeys: {ops: {text: \""+opsKey+"\"}}\nplatforms: {heat: {sizes: {small: {cpus: 1, memory: 1GiB}}}}", "[parameters('x')] ${y}")
		if labelled == nil || refuses(target, labelled) {
			continue
		}
		want := "[parameters('x')] ${y}"
		all := ""
		for _, file := range golden.Render(t, target, labelled) {
			all += string(file.Data)
		}
		if name == "arm" {
			want = "[" + want // which stands for one bracket that begins no expression
		}
		if !strings.Contains(all, want) {
			t.Errorf("%s: the label %q is not there as it is", name, want)
		}
	}
}

const opsKey = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIIETOlNLJsV0HX5EIsg8Ah/pNotUh2YheSPdoPzML5fE mira"

// TestPyYAMLReadsHeat reads the template as Heat does, by PyYAML.
func TestPyYAMLReadsHeat(t *testing.T) {
	python := program(t, "/usr/bin/python3")
	file := rendering(t, "heat", busy(t))["tide-office.heat.yaml"]
	path := filepath.Join(t.TempDir(), "heat.yaml")
	if err := os.WriteFile(path, file.Data, 0o600); err != nil {
		t.Fatal(err)
	}
	out, err := exec.Command(python, "-c", "import json, sys, yaml; json.dump(yaml.safe_load(open(sys.argv[1])), sys.stdout)", path).Output()
	if err != nil {
		t.Fatalf("PyYAML: %v", err)
	}
	var theirs map[string]any
	if err := json.Unmarshal(out, &theirs); err != nil {
		t.Fatal(err)
	}
	ours, err := json.Marshal(decoded(t, file))
	if err != nil {
		t.Fatal(err)
	}
	again, err := json.Marshal(theirs)
	if err != nil {
		t.Fatal(err)
	}
	if string(ours) != string(again) {
		t.Error("PyYAML reads another document than we wrote")
	}
}
