package quote

import "strings"

// Bhyve writes a value for a line of bhyve_config(5), where "%(" starts a variable
// and "%%" stands for a percent sign. A value must be one line.
func Bhyve(text string) string { return strings.ReplaceAll(text, "%", "%%") }
