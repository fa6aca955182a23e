package ordered

import (
	"encoding/json"
	"testing"

	"go.yaml.in/yaml/v4"
)

func document() *Map {
	return Of("z", 1, "a", List{Of("b", "x<y>&\u2028"), "yes", true}, "left", "", "out", nil, "none", List{}, "kept",
		Keep(""), "words", []string{"n", "10:30"}, "deep", Of("empty", Keep(Of())))
}

func TestOrder(t *testing.T) {
	data, err := document().JSON()
	if err != nil {
		t.Fatal(err)
	}
	want := `{
  "z": 1,
  "a": [
    {
      "b": "x<y>&\u2028"
    },
    "yes",
    true
  ],
  "kept": "",
  "words": [
    "n",
    "10:30"
  ],
  "deep": {
    "empty": {}
  }
}
`
	if string(data) != want {
		t.Errorf("got\n%s", data)
	}
	if Of("a", "").Len() != 0 || (*Map)(nil).Len() != 0 {
		t.Error("an empty map has keys")
	}
}

// TestYAMLSaysTheSame checks that both forms give the same document.
func TestYAMLSaysTheSame(t *testing.T) {
	flat, err := document().JSON()
	if err != nil {
		t.Fatal(err)
	}
	text, err := yaml.Dump(document().Node())
	if err != nil {
		t.Fatal(err)
	}
	var fromJSON, fromYAML any
	if err := json.Unmarshal(flat, &fromJSON); err != nil {
		t.Fatal(err)
	}
	if err := yaml.Load(text, &fromYAML); err != nil {
		t.Fatal(err)
	}
	one, err := json.Marshal(fromJSON)
	if err != nil {
		t.Fatal(err)
	}
	other, err := json.Marshal(fromYAML)
	if err != nil {
		t.Fatal(err)
	}
	if string(one) != string(other) {
		t.Errorf("JSON %s\nYAML %s", one, other)
	}
}
