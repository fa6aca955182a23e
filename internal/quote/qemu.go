package quote

import "strings"

// QEMU quotes the value of an option of QEMU, where a comma ends it and two stand for
// one (qemu-options, "-blockdev").
func QEMU(text string) string { return strings.ReplaceAll(text, ",", ",,") }
