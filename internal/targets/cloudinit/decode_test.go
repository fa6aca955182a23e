package cloudinit_test

import (
	"encoding/base64"
	"testing"
)

// decoded is the content of a write_files entry as cloud-init would write it.
func decoded(t *testing.T, file map[string]any) string {
	t.Helper()
	content, _ := file["content"].(string)
	if file["encoding"] != "b64" {
		return content
	}
	data, err := base64.StdEncoding.DecodeString(content)
	if err != nil {
		t.Fatal(err)
	}
	return string(data)
}
