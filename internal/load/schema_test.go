package load

import (
	"bytes"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"go.yaml.in/yaml/v4"
	"stavren.example/stavren/internal/document"
	"stavren.example/stavren/internal/language"
)

func compiledSchema(t *testing.T) *jsonschema.Schema {
	t.Helper()
	text, err := language.Schema()
	if err != nil {
		t.Fatal(err)
	}
	document, err := jsonschema.UnmarshalJSON(bytes.NewReader(text))
	if err != nil {
		t.Fatal(err)
	}
	compiler := jsonschema.NewCompiler()
	if err := compiler.AddResource("stavren.json", document); err != nil {
		t.Fatal(err)
	}
	compiled, err := compiler.Compile("stavren.json")
	if err != nil {
		t.Fatal(err)
	}
	return compiled
}

// schemaFinds reports whether the schema rejects a definition.
func schemaFinds(t *testing.T, compiled *jsonschema.Schema, text string) error {
	t.Helper()
	var value any
	if err := yaml.Load([]byte(text), &value); err != nil {
		return err
	}
	data, err := json.Marshal(value)
	if err != nil {
		return err
	}
	document, err := jsonschema.UnmarshalJSON(bytes.NewReader(data))
	if err != nil {
		return err
	}
	return compiled.Validate(document)
}

// TestSchemaTakesWhatIsGood checks that the schema accepts what the reader accepts.
func TestSchemaTakesWhatIsGood(t *testing.T) {
	compiled := compiledSchema(t)
	good := []string{layered}
	for _, rule := range document.Rules() {
		if rule.Right != "" {
			good = append(good, rule.Right)
		}
	}
	for _, key := range language.Keys() {
		if strings.Contains(key.Path, ".") {
			good = append(good, keyExample(key))
		}
	}
	for _, text := range good {
		if _, err := parseText(text); err != nil {
			t.Errorf("the reader refuses: %s\n%s", report(err), text)
		}
		if err := schemaFinds(t, compiled, text); err != nil {
			t.Errorf("the schema refuses: %v\n%s", err, text)
		}
	}
}

// formRules lists the reading rules that a schema can check.
var formRules = map[string]bool{
	"unknown-key": true, "wrong-type": true, "missing-unit": true, "out-of-range": true, "unknown-version": true,
	"empty-value": true,
}

// TestSchemaFindsWhatIsBad checks that schema and reader agree on broken definitions,
// one broken key at a time.
func TestSchemaFindsWhatIsBad(t *testing.T) {
	compiled := compiledSchema(t)
	tried := 0
	for _, rule := range document.Rules() {
		if rule.Wrong == "" || !formRules[rule.Name] {
			continue
		}
		tried++
		if err := schemaFinds(t, compiled, rule.Wrong); err == nil {
			t.Errorf("the schema takes what breaks %s:\n%s", rule.Name, rule.Wrong)
		}
	}
	files, err := filepath.Glob("testdata/faults/*.yaml")
	if err != nil {
		t.Fatal(err)
	}
	for _, file := range files {
		data, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		for _, text := range oneFaultEach(string(data)) {
			_, err := parseText(text)
			faults := Faults(err)
			// YAML reads 0x10 as a number; only our reader sees how it was written.
			if len(faults) == 0 || !formRules[faults[0].Rule] || strings.Contains(text, "0x10") {
				continue
			}
			tried++
			if schemaFinds(t, compiled, text) == nil {
				t.Errorf("%s: the schema takes what the reader refuses: %s\n%s", file, report(err), text)
			}
		}
	}
	if tried < 30 {
		t.Errorf("only %d broken definitions were tried", tried)
	}
}

// oneFaultEach splits a file of broken nouns, one per line, into one definition each.
func oneFaultEach(text string) []string {
	var head, texts []string
	for _, line := range strings.SplitAfter(text, "\n") {
		if strings.HasPrefix(line, "  ") && !strings.HasPrefix(strings.TrimSpace(line), "bookworm") &&
			!strings.HasPrefix(line, "    ") {
			texts = append(texts, strings.Join(head, "")+line)
			continue
		}
		head = append(head, line)
	}
	return texts
}

// TestSchemaExplains checks that editors can show what a key means.
func TestSchemaExplains(t *testing.T) {
	text, err := language.Schema()
	if err != nil {
		t.Fatal(err)
	}
	var document struct {
		Defs map[string]struct {
			Properties map[string]struct {
				Description string
				Default     any
				Examples    []any
			}
		} `json:"$defs"`
	}
	if err := json.Unmarshal(text, &document); err != nil {
		t.Fatal(err)
	}
	machine := document.Defs["machine"].Properties
	keys := 0
	for _, key := range language.Keys() {
		if name, ok := strings.CutPrefix(key.Path, "machines.NAME."); ok && !strings.Contains(name, ".") {
			keys++
		}
	}
	if len(machine) != keys {
		t.Errorf("%d keys of a machine are described, and there are %d", len(machine), keys)
	}
	for key, property := range machine {
		if property.Description == "" || len(property.Examples) != 1 {
			t.Errorf("%s is not explained: %+v", key, property)
		}
	}
	if machine["clock"].Default != "utc" || machine["autostart"].Default != false ||
		machine["host_name"].Default != nil {
		t.Errorf("defaults: %v, %v, %v", machine["clock"].Default, machine["autostart"].Default,
			machine["host_name"].Default)
	}
}
