package conformance

import (
	"context"
	"fmt"
	"io/fs"
	"net/netip"
	"os"
	"reflect"
	"regexp"
	"slices"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"stavren.example/stavren"
	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/catalog"
	"stavren.example/stavren/internal/targets"
	"stavren.example/stavren/internal/targets/cloudinit"
	"stavren.example/stavren/render"
)

// otherValue has a second valid value for fields that don't accept any text.
var otherValue = map[string]string{
	"image.os": "rock-os", "image.arch": "arm64", "machine.image": "second", "nic.network": "pier",
	"port.protocol": "udp", "disk.format": "full", "disk.bus": "sata", "disk.speed": "standard", "nic.model": "e1000",
}

// TestFatesAreTrue changes each field of a definition that sets every one, renders it
// again, and compares: what a target carries or adapts must change its output, and
// what it leaves out must not. It does so for each class of systems, so no target can
// forget that Windows reads less than Linux.
func TestFatesAreTrue(t *testing.T) {
	for _, family := range catalog.Families() {
		t.Run(family.Name, func(t *testing.T) {
			definition := everyField(t, family)
			// Hashing passwords is slow, so it is done only for the fields that matter.
			plain := loadText(t, strings.NewReplacer("password: login, ", "", "password: other, ",
				"").Replace(definition))
			whole := loadText(t, definition)
			// With networks of the platforms' own, no networks are created.
			fresh := loadText(t, existingNetwork.ReplaceAllString(definition, ""))
			for _, target := range targets.All() {
				// One family of each class is enough for targets that only pass the data on.
				if !slices.Contains([]string{catalog.Debian, catalog.FreeBSD, catalog.Windows}, family.Name) &&
					target.Name != cloudinit.Target.Name {
					continue
				}
				t.Run(target.Name, func(t *testing.T) {
					changed := map[string]bool{}
					changeFields(t, target, plain, changed, "")
					changeFields(t, target, whole, changed, "secret.|user.password$")
					if _, isCloud := targets.Cloud(target.Name); isCloud {
						changeFields(t, target, fresh, changed, "network.|nic.|route.")
					}
					compareFates(t, target, whole, changed)
				})
			}
		})
	}
}

// existingNetwork matches the part of a platform that names a network.
var existingNetwork = regexp.MustCompile(`network: (subnet-|/sub|5a49)[^,]*, `)

// changeFields changes each field whose name starts with one of some beginnings, and
// notes which changed the output.
func changeFields(t *testing.T, target render.Target, f *fleet.Fleet, changed map[string]bool, beginnings string) {
	t.Helper()
	before := everything(t, target, f)
	chosen := regexp.MustCompile("^(" + beginnings + ")")
	eachField(reflect.ValueOf(f).Elem(), func(field string, value reflect.Value) {
		if !chosen.MatchString(field) || changed[field] {
			return
		}
		saved := reflect.New(value.Type()).Elem()
		saved.Set(value)
		if change(field, value) {
			after, err := output(target, f)
			changed[field] = err != nil || after != before
		}
		value.Set(saved)
	})
}

// everyField returns the definition that sets every field, for one family of systems.
func everyField(t *testing.T, family catalog.Family) string {
	t.Helper()
	text, err := os.ReadFile("testdata/every-field.stavren.yaml")
	if err != nil {
		t.Fatal(err)
	}
	size, droplet := "70GiB", "s-2vcpu-4gb"
	if family.Name == catalog.Windows {
		size, droplet = "300GiB", "s-8vcpu-16gb"
	}
	return strings.NewReplacer("OTHER-FAMILY", otherFamily(family.Key), "OS-FAMILY", family.Key, "ROOT-SIZE", size,
		"DROPLET-SIZE", droplet).Replace(string(text))
}

func otherFamily(key string) string {
	if key == "suse" {
		return "alpine"
	}
	return "suse"
}

func loadText(t *testing.T, definition string) *fleet.Fleet {
	t.Helper()
	f, err := stavren.Load(t.Context(), fstest.MapFS{"f.stavren.yaml": {Data: []byte(definition)}}, "f.stavren.yaml",
		stavren.LoadOptions{})
	if err != nil {
		t.Fatal(err)
	}
	return f
}

// everything returns the output of a target, which must not fail.
func everything(t *testing.T, target render.Target, f *fleet.Fleet) string {
	t.Helper()
	text, err := output(target, f)
	if err != nil {
		t.Fatal(err)
	}
	return text
}

// output returns what a target writes and prints, as one text.
func output(target render.Target, f *fleet.Fleet) (string, error) {
	options := render.Options{Secrets: func(s *fleet.Secret) (string, error) { return "Tide9!" + s.Env + s.File, nil }}
	files, err := render.All(context.Background(), target, f, options)
	if err != nil {
		return "", err
	}
	steps, err := render.Steps(target, f, options)
	if err != nil {
		return "", err
	}
	var text strings.Builder
	for _, file := range files {
		fmt.Fprintf(&text, "%s %o\n%s\n", file.Name, file.Mode, file.Data)
	}
	fmt.Fprintf(&text, "%+v", steps)
	return text.String(), nil
}

// doneByReader lists the fields that take effect before a target sees them.
var doneByReader = []string{"file.fill", "script.fill"}

// compareFates compares what changed with what the target says of the machine.
func compareFates(t *testing.T, target render.Target, f *fleet.Fleet, changed map[string]bool) {
	t.Helper()
	fates := map[string]render.Fate{}
	for _, fate := range target.Fates() {
		fates[fate.Field] = fate
	}
	if target.Overrides != nil {
		for _, fate := range target.Overrides(&render.Job{Fleet: f}, f.Machines[0]) {
			fates[fate.Field] = fate
		}
	}
	isFirstBoot := map[string]bool{}
	for _, fate := range cloudinit.Fates() {
		isFirstBoot[fate.Field] = fate == fates[fate.Field] && !slices.Contains(doneByReader, fate.Field)
	}
	for _, field := range render.Fields() {
		fate, isKnown := fates[field]
		reached, isChanged := changed[field]
		switch {
		case !isKnown:
			t.Errorf("%s has no fate; add it to fates of the target, or, if first-boot data carries it, to table in "+
				"internal/targets/cloudinit/fates.go", field)
		case !isChanged:
			t.Errorf("%s was not changed; set it in testdata/every-field.stavren.yaml", field)
		case reached && fate.Outcome == render.LeftOut:
			t.Errorf("%s changes the output, but its fate is that it is left out (%s); adapt or carry it in fates or "+
				"overrides of the target", field, fate.How)
		case !reached && (fate.Outcome == render.Carried || fate.Outcome == render.Adapted && isFirstBoot[field]):
			t.Errorf("%s is %v (%s), but changing it does not change the output; leave it out in fates or overrides of "+
				"the target", field, fate.Outcome, fate.How)
		}
	}
}

// eachField visits every value of every field.
func eachField(noun reflect.Value, visit func(field string, value reflect.Value)) {
	for i := range noun.NumField() {
		structField, value := noun.Type().Field(i), noun.Field(i)
		if key := structField.Tag.Get("key"); key != "" && structField.Tag.Get("scope") == "" {
			visit(nounName(noun.Type())+"."+key, value)
		}
		eachNoun(value, func(inner reflect.Value) { eachField(inner, visit) })
	}
}

// nounName returns the name of a type in the form of the language.
func nounName(noun reflect.Type) string {
	return strings.ToLower(regexp.MustCompile("([a-z])([A-Z])").ReplaceAllString(noun.Name(), "${1}_${2}"))
}

// eachNoun visits the nouns that a value holds.
func eachNoun(value reflect.Value, visit func(reflect.Value)) {
	switch value.Kind() {
	case reflect.Slice:
		for i := range value.Len() {
			eachNoun(value.Index(i), visit)
		}
	case reflect.Pointer:
		if !value.IsNil() {
			eachNoun(value.Elem(), visit)
		}
	case reflect.Struct:
		if value.Type().PkgPath() == reflect.TypeFor[fleet.Fleet]().PkgPath() {
			visit(value)
		}
	}
}

// change gives a field another value. It reports false for a field that isn't set.
func change(field string, value reflect.Value) bool {
	if value.IsZero() && value.Kind() != reflect.Bool {
		return false
	}
	if other := otherValue[field]; other != "" {
		if value.String() == other {
			return false
		}
		value.SetString(other)
		return true
	}
	switch field {
	case "system.family":
		value.SetString(otherFamily(value.String()))
		return true
	case "disk.filesystem": // any one is the same on FreeBSD
		value.SetString("")
		return true
	case "size.cpus", "size.memory", "size.disk": // a larger size would still fit
		value.SetInt(value.Int() - 1)
		return true
	}
	switch v := value.Addr().Interface().(type) {
	case *netip.Addr:
		*v = v.Next()
	case *netip.Prefix:
		*v = netip.PrefixFrom(v.Masked().Addr(), v.Bits()-1).Masked()
	case *time.Time:
		*v = v.AddDate(0, 1, 0)
	case *fs.FileMode:
		*v ^= 0o040
	case *fleet.Bytes:
		*v += fleet.GiB
	case *fleet.Content:
		v.Text += "\n# changed"
	case *fleet.PortRange:
		v.Last = v.Last + 1
	case *[]fleet.Pair:
		*v = slices.Clone(*v)
		for i := range *v {
			(*v)[i].Value += "x"
		}
	default:
		return changeKind(value)
	}
	return true
}

func changeKind(value reflect.Value) bool {
	switch value.Kind() {
	case reflect.Bool:
		value.SetBool(!value.Bool())
	case reflect.Int, reflect.Int64, reflect.Int32:
		value.SetInt(value.Int() + 1)
	case reflect.String:
		if other := nextWord(value); other != "" {
			value.SetString(other)
		} else {
			value.SetString(value.String() + "x")
		}
	case reflect.Slice:
		if value.Type().Elem().Kind() == reflect.Pointer {
			return false // a list of nouns, whose fields are changed one by one
		}
		if n := value.Len(); n > 0 {
			value.Set(reflect.AppendSlice(reflect.Zero(value.Type()), value.Slice(0, n-1)))
		}
	default:
		return false
	}
	return true
}

// nextWord returns another word of a type that has a fixed set of them, or "".
func nextWord(value reflect.Value) string {
	sets := map[reflect.Type][]string{
		reflect.TypeFor[fleet.NetworkMode]():     {"nat", "host-only", "isolated"},
		reflect.TypeFor[fleet.Priority]():        {"low", "normal", "high"},
		reflect.TypeFor[fleet.RootLogin]():       {"no", "by-key", "by-any-way"},
		reflect.TypeFor[fleet.AdminRights]():     {"no", "with-password", "without-password"},
		reflect.TypeFor[fleet.ConsoleKind]():     {"serial", "graphical"},
		reflect.TypeFor[fleet.ConsoleProtocol](): {"vnc", "spice"},
		reflect.TypeFor[fleet.FirmwareKind]():    {"bios", "uefi"},
		reflect.TypeFor[fleet.Clock]():           {"utc", "local"},
		reflect.TypeFor[fleet.WhenStopped]():     {"keep", "remove"},
		reflect.TypeFor[fleet.When]():            {"once", "every-boot"},
	}
	words := sets[value.Type()]
	if len(words) == 0 {
		return ""
	}
	return words[(slices.Index(words, value.String())+1)%len(words)]
}
