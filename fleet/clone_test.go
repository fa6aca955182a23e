package fleet_test

import (
	"reflect"
	"testing"
	"time"

	"stavren.example/stavren/fleet"
)

// filled puts something into every field below a value, so that a field that is
// added later takes part without a change here.
func filled(v reflect.Value) {
	switch v.Kind() {
	case reflect.Pointer:
		v.Set(reflect.New(v.Type().Elem()))
		filled(v.Elem())
	case reflect.Slice:
		v.Set(reflect.MakeSlice(v.Type(), 2, 2))
		for i := range v.Len() {
			filled(v.Index(i))
		}
	case reflect.Struct:
		if origins, ok := v.Addr().Interface().(*fleet.Origins); ok {
			origins.SetOrigin("key", fleet.Origin{Via: "kit shore"})
			return
		}
		if v.Type() == reflect.TypeFor[time.Time]() {
			v.Set(reflect.ValueOf(time.Unix(1, 0)))
			return
		}
		for i := range v.NumField() {
			if v.Type().Field(i).IsExported() {
				filled(v.Field(i))
			}
		}
	case reflect.String:
		v.SetString("tide")
	case reflect.Bool:
		v.SetBool(true)
	case reflect.Int, reflect.Int32, reflect.Int64:
		v.SetInt(7)
	}
}

// shared finds the first pointer or slice that two values have in common.
func shared(a, b reflect.Value, path string) string {
	switch a.Kind() {
	case reflect.Pointer:
		if a.IsNil() || b.IsNil() {
			return ""
		}
		if a.Pointer() == b.Pointer() {
			return path
		}
		return shared(a.Elem(), b.Elem(), path)
	case reflect.Slice:
		if a.Len() > 0 && b.Len() > 0 && a.Pointer() == b.Pointer() {
			return path
		}
		for i := range min(a.Len(), b.Len()) {
			if found := shared(a.Index(i), b.Index(i), path); found != "" {
				return found
			}
		}
	case reflect.Struct:
		for i := range a.NumField() {
			name := a.Type().Field(i).Name
			// A time zone is shared by all times; the source of origins never changes.
			if a.Type() == reflect.TypeFor[time.Time]() || name == "source" {
				continue
			}
			if found := shared(a.Field(i), b.Field(i), path+"."+name); found != "" {
				return found
			}
		}
	}
	return ""
}

// TestCloneSharesNothing walks every field that a machine has by reflection.
func TestCloneSharesNothing(t *testing.T) {
	var m fleet.Machine
	filled(reflect.ValueOf(&m).Elem())
	c := m.Clone()
	if !reflect.DeepEqual(&m, c) {
		t.Error("the clone differs")
	}
	if path := shared(reflect.ValueOf(m), reflect.ValueOf(*c), "Machine"); path != "" {
		t.Errorf("the clone shares %s", path)
	}
	empty := (&fleet.Machine{}).Clone()
	if !reflect.DeepEqual(empty, &fleet.Machine{}) {
		t.Errorf("the clone of an empty machine is %+v", empty)
	}
}

func TestPortRange(t *testing.T) {
	for _, text := range []string{"80/tcp", "6000-6010/udp", "1-65535/tcp", "icmp", "any"} {
		ports, err := fleet.ParsePortRange(text)
		if err != nil || ports.String() != text {
			t.Errorf("%s is read as %v, %v", text, ports, err)
		}
	}
	if ports, err := fleet.ParsePortRange("80-80/tcp"); err != nil || ports.String() != "80/tcp" {
		t.Errorf("a range of one: %v, %v", ports, err)
	}
	for _, text := range []string{"", "80", "80/", "/tcp", "0/tcp", "65536/tcp", "90-80/tcp", "-80/tcp", "80-/tcp",
		"80/icmp", "80/any", "icmp/tcp", "TCP/80", "80/TCP", " 80/tcp"} {
		if ports, err := fleet.ParsePortRange(text); err == nil {
			t.Errorf("%q is read as %v", text, ports)
		}
	}
}

func TestReveal(t *testing.T) {
	values := map[string]string{"door": "high $(water)", "gate": ""}
	reveal := func(name string) (string, error) { return values[name], nil }
	var both fleet.Content
	both.AppendSecret("door")
	forged := both.Text
	both.Text += "-" + forged + "-"
	both.AppendSecret("gate")
	both.Text += "."
	for _, c := range []struct {
		name    string
		content fleet.Content
		want    string
	}{
		{"nothing", fleet.Content{}, ""},
		{"plain", fleet.Content{Text: "plain"}, "plain"},
		{"a text that looks like a mark", fleet.Content{Text: forged}, forged},
		{"two secrets and such a text", both, "high $(water)-" + forged + "-."},
	} {
		t.Run(c.name, func(t *testing.T) {
			if got, err := c.content.Reveal(reveal); err != nil || got != c.want {
				t.Errorf("got %q, %v", got, err)
			}
		})
	}
	if names := both.SecretNames(); !reflect.DeepEqual(names, []string{"door", "gate"}) || !both.HasSecrets() {
		t.Errorf("names %v", names)
	}
	both.Text = both.Text[:20]
	if text, err := both.Reveal(reveal); err == nil {
		t.Errorf("a text without the places of its secrets is revealed as %q", text)
	}
}
