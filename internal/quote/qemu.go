package quote

import "strings"

// QEMU quotes a value of one of QEMU's options, where a comma ends it and two
// stand for one (qemu-options, "-blockdev").
func QEMU(text string) string { return strings.ReplaceAll(text, ",", ",,") }
