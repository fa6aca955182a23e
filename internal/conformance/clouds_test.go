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
	"strings"
	"testing"

	"go.yaml.in/yaml/v4"

	"stavren.example/stavren"
	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/golden"
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

// busy is the demo with everything that it doesn't use itself.
func busy(t *testing.T) *fleet.Fleet {
	f := golden.Demo(t)
	almanac := f.Machine("almanac")
	almanac.Interruptible, almanac.WhenStopped = true, fleet.RemoveStopped
	almanac.Identity = fleet.Identity{Account: "tides@skerry.example", Scopes: []string{"storage-read"}}
	almanac.Ports = append(almanac.Ports, &fleet.Port{Name: "gopher", Machine: 70})
	almanac.Disks = append(almanac.Disks, &fleet.Disk{Name: "extra", Size: 7 * fleet.GiB, FileSystem: "xfs",
		Mount: "/srv/extra"})
	f.Machine("store").PublicAddress = true
	f.Machine("harbour-log").Firewall = nil
	f.Firewalls = append(f.Firewalls, &fleet.Firewall{Name: "all",
		Allow: []*fleet.Allowance{{Port: fleet.PortRange{Protocol: fleet.AnyProtocol}}}})
	f.Machine("gauge-2").Firewall = append(f.Machine("gauge-2").Firewall, "all")
	f.Complete()
	return f
}

// knownProperties lists properties of each resource type from the platforms' public
// references: those that are or could be used.
var knownProperties = map[string]string{
	"OS::Neutron::SecurityGroup": "name description rules",
	"OS::Nova::KeyPair":          "name public_key save_private_key type user",
	"OS::Neutron::Net":           "name admin_state_up shared port_security_enabled value_specs",
	"OS::Neutron::Subnet": "name network cidr gateway_ip enable_dhcp dns_nameservers allocation_pools " +
		"ip_version host_routes",
	"OS::Neutron::Port": "name network fixed_ips security_groups allowed_address_pairs mac_address " +
		"port_security_enabled",
	"OS::Cinder::Volume":           "name size volume_type availability_zone image description metadata",
	"OS::Cinder::VolumeAttachment": "instance_uuid volume_id mountpoint",
	"OS::Nova::Server": "name image flavor key_name networks availability_zone metadata " +
		"user_data_format user_data block_device_mapping_v2 config_drive",
	"OS::Neutron::FloatingIP": "floating_network port_id fixed_ip_address",

	"AWS::EC2::VPC":                         "CidrBlock EnableDnsSupport EnableDnsHostnames InstanceTenancy Tags",
	"AWS::EC2::VPCCidrBlock":                "VpcId CidrBlock",
	"AWS::EC2::Subnet":                      "VpcId CidrBlock AvailabilityZone MapPublicIpOnLaunch Tags",
	"AWS::EC2::InternetGateway":             "Tags",
	"AWS::EC2::VPCGatewayAttachment":        "VpcId InternetGatewayId",
	"AWS::EC2::RouteTable":                  "VpcId Tags",
	"AWS::EC2::Route":                       "RouteTableId DestinationCidrBlock GatewayId",
	"AWS::EC2::SubnetRouteTableAssociation": "SubnetId RouteTableId",
	"AWS::EC2::SecurityGroup": "GroupDescription GroupName VpcId SecurityGroupIngress " +
		"SecurityGroupEgress Tags",
	"AWS::EC2::KeyPair":          "KeyName PublicKeyMaterial KeyType Tags",
	"AWS::EC2::NetworkInterface": "SubnetId PrivateIpAddress GroupSet Description SourceDestCheck Tags",
	"AWS::EC2::LaunchTemplate":   "LaunchTemplateName LaunchTemplateData TagSpecifications",
	"AWS::EC2::Instance": "ImageId InstanceType AvailabilityZone LaunchTemplate KeyName " +
		"IamInstanceProfile NetworkInterfaces InstanceInitiatedShutdownBehavior UserData Tags",
	"AWS::EC2::EIP":            "Domain Tags",
	"AWS::EC2::EIPAssociation": "AllocationId NetworkInterfaceId InstanceId",

	"Microsoft.Network/networkSecurityGroups":          "securityRules",
	"Microsoft.ManagedIdentity/userAssignedIdentities": "",
	"Microsoft.Compute/virtualMachines/extensions": "publisher type typeHandlerVersion autoUpgradeMinorVersion settings " +
		"protectedSettings",
	"Microsoft.Network/virtualNetworks":   "addressSpace subnets",
	"Microsoft.Network/publicIPAddresses": "publicIPAllocationMethod dnsSettings idleTimeoutInMinutes",
	"Microsoft.Network/networkInterfaces": "networkSecurityGroup ipConfigurations enableAcceleratedNetworking",
	"Microsoft.Compute/disks":             "creationData diskSizeGB",
	"Microsoft.Compute/virtualMachines": "hardwareProfile storageProfile osProfile networkProfile " +
		"securityProfile priority evictionPolicy billingProfile",
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
		if kind := at(t, resource, "type"); kind == "OS::Nova::Server" &&
			at(t, resource, "properties/user_data_format") != "RAW" {
			t.Errorf("%s has no raw user data", name)
		}
	}
	walk(document, "", func(path string, m map[string]any) {
		if to, ok := m["get_resource"]; ok && resources[fmt.Sprint(to)] == nil {
			t.Errorf("%s leads to %v, which is not there", path, to)
		}
		if to, ok := m["get_attr"].([]any); ok && resources[fmt.Sprint(to[0])] == nil {
			t.Errorf("%s leads to %v, which is not there", path, to)
		}
		if replace, ok := m["str_replace"].(map[string]any); ok {
			text := replace["template"].(string)
			for param := range replace["params"].(map[string]any) {
				if !strings.Contains(text, param) {
					t.Errorf("%s replaces %s, which the text does not hold", path, param)
				}
			}
			if left := regexp.MustCompile(`@volume-[a-z0-9-]+@`).FindAllString(text,
				-1); len(left) < len(replace["params"].(map[string]any)) {
				t.Errorf("%s: %v", path, left)
			}
		}
	})
	if at(t, resources, "almanac_disk_pages/deletion_policy") != "Retain" ||
		resources["almanac_disk_extra"].(map[string]any)["deletion_policy"] != nil {
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
		targets, _ := m["DependsOn"].([]any)
		for _, key := range []string{"Ref", "DependsOn"} {
			if to, ok := m[key].(string); ok {
				targets = append(targets, to)
			}
		}
		for _, to := range targets {
			if resources[fmt.Sprint(to)] == nil {
				t.Errorf("%s leads to %v, which is not there", path, to)
			}
		}
		if to, ok := m["Fn::GetAtt"].([]any); ok && resources[fmt.Sprint(to[0])] == nil {
			t.Errorf("%s leads to %v, which is not there", path, to)
		}
	})
	if at(t, resources, "AlmanacLaunch/Properties/LaunchTemplateData/InstanceMarketOptions/MarketType") != "spot" ||
		at(t, resources, "StoreLaunch/Properties/LaunchTemplateData/MetadataOptions/HttpTokens") != "required" ||
		at(t, resources, "Almanac/Properties/InstanceInitiatedShutdownBehavior") != "terminate" ||
		at(t, resources, "AlmanacLaunch/Properties/LaunchTemplateData/BlockDeviceMappings/1/Ebs/DeleteOnTermination") != false ||
		at(t, resources, "AlmanacLaunch/Properties/LaunchTemplateData/BlockDeviceMappings/2/Ebs/DeleteOnTermination") != true {
		t.Error("capacity, metadata or disks are otherwise than asked")
	}
}

func TestARMReferences(t *testing.T) {
	files := rendering(t, "arm", busy(t))
	document := decoded(t, files["tide-office.arm.json"])
	known := map[string]bool{}
	for _, resource := range document["resources"].([]any) {
		known["'"+at(t, resource, "type").(string)+"', '"+at(t, resource, "name").(string)+"'"] = true
		checkProperties(t, at(t, resource, "type").(string), at(t, resource, "properties"))
	}
	find := regexp.MustCompile(`resourceId\(([^)]*)\)`)
	for _, resource := range document["resources"].([]any) {
		name := at(t, resource, "name").(string)
		after := map[string]bool{}
		list, _ := resource.(map[string]any)["dependsOn"].([]any)
		for _, on := range list {
			id := find.FindStringSubmatch(on.(string))[1]
			if !known[id] {
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
			if rest, ok := strings.CutPrefix(id, "'Microsoft.Network/virtualNetworks/subnets', "); ok {
				network, _, _ := strings.Cut(rest, ", ")
				id = "'Microsoft.Network/virtualNetworks', " + network
			}
			if !after[id] {
				t.Errorf("%s uses %s and does not depend on it", name, id)
			}
		}
		if at(t, resource, "type") == "Microsoft.Network/networkSecurityGroups" {
			seen := map[string]bool{}
			for _, rule := range at(t, resource, "properties/securityRules").([]any) {
				priority := at(t, rule, "properties/priority").(float64)
				place := fmt.Sprint(at(t, rule, "properties/direction"), priority)
				if seen[place] || priority < 100 || priority > 4096 {
					t.Errorf("%s: priority %v", name, priority)
				}
				seen[place] = true
			}
		}
	}
	walk(document, "", func(path string, m map[string]any) {
		for key, value := range m {
			text, _ := value.(string)
			if use := regexp.MustCompile(`parameters\('([^']*)'\)`).FindStringSubmatch(text); use != nil &&
				document["parameters"].(map[string]any)[use[1]] == nil {
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
	if at(t, document, "parameters/store_first_boot/type") != "securestring" ||
		at(t, document, "parameters/ferry_desk_password/type") != "securestring" {
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
	if at(t, almanac, "scheduling/provisioningModel") != "SPOT" ||
		at(t, almanac, "scheduling/instanceTerminationAction") != "DELETE" ||
		at(t, almanac, "disks/1/autoDelete") != false || at(t, almanac,
		"serviceAccounts/0/email") != "tides@skerry.example" {
		t.Errorf("%v", almanac)
	}
}

// TestPyYAMLReadsHeat reads the template as Heat does, with PyYAML.
func TestPyYAMLReadsHeat(t *testing.T) {
	python := program(t, "/usr/bin/python3")
	file := rendering(t, "heat", busy(t))["tide-office.heat.yaml"]
	path := filepath.Join(t.TempDir(), "heat.yaml")
	if err := os.WriteFile(path, file.Data, 0o600); err != nil {
		t.Fatal(err)
	}
	out, err := exec.Command(python, "-c",
		"import json, sys, yaml; json.dump(yaml.safe_load(open(sys.argv[1])), sys.stdout)", path).Output()
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
