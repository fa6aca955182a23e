package qemu

import (
	"fmt"
	"net/netip"
	"strings"

	"stavren.example/stavren/fleet"
)

// firstDisplay is the port of VNC's display 0 (RFC 6143).
const firstDisplay = 5900

// passwordFile has the password of a graphical console.
const passwordFile = "console.password"

// keymap returns the name of a keyboard layout in QEMU's VNC server, or "" if it has
// none. Some names differ from those of XKB (share/qemu/keymaps).
func keymap(layout string) string {
	switch layout {
	case "cz", "de", "es", "fi", "fo", "fr", "hr", "hu", "is", "it", "lt", "lv", "mk", "nl", "no", "pl",
		"pt", "ru", "th", "tr":
		return layout
	case "ara":
		return "ar"
	case "dk":
		return "da"
	case "gb":
		return "en-gb"
	case "us":
		return "en-us"
	case "ee":
		return "et"
	case "be":
		return "fr-be"
	case "ca":
		return "fr-ca"
	case "ch":
		return "de-ch"
	case "jp":
		return "ja"
	case "br":
		return "pt-br"
	case "si":
		return "sl"
	case "se":
		return "sv"
	}
	return ""
}

// console adds a screen, keyboard and pointer if the machine has them.
func (r *run) console(m *fleet.Machine, arch string) {
	r.option("-display", "none")
	c := &m.Console
	if c.Kind != fleet.Graphical {
		return
	}
	width, height, _ := strings.Cut(c.Resolution, "x")
	adapter := "virtio-vga"
	switch {
	case arch == "arm64":
		adapter = "virtio-gpu-pci"
	case !r.system.Linux():
		adapter = "VGA" // which systems without a driver for virtio know
	}
	r.option("-device", fmt.Sprintf("%s,edid=on,xres=%s,yres=%s", adapter, width, height))
	r.option("-device", "qemu-xhci")
	r.option("-device", "usb-kbd")
	r.option("-device", "usb-tablet")
	if c.Password != "" {
		r.option("-object", "secret,id=screen,file="+passwordFile)
	}
	switch c.Protocol {
	case fleet.SPICE:
		options := fmt.Sprintf("addr=%s,port=%d", c.Listen, c.Port)
		if c.Password != "" {
			options += ",password-secret=screen"
		} else {
			options += ",disable-ticketing=on"
		}
		r.option("-spice", options)
	default:
		options := netip.AddrPortFrom(c.Listen, uint16(c.Port-firstDisplay)).String()
		if c.Password != "" {
			options += ",password-secret=screen"
		}
		r.option("-vnc", options)
		if layout := keymap(m.Keyboard); layout != "" {
			r.option("-k", layout)
		}
	}
}
