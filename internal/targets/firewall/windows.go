package firewall

import (
	"fmt"
	"net/netip"
	"strings"

	"stavren.example/stavren/fleet"
	"stavren.example/stavren/internal/quote"
)

// PowerShell returns a script that makes the firewall of Windows let in what the
// openings allow, and nothing else: rules that came with Windows or its programs are
// disabled, except those of core networking, which are DHCP and neighbours of IPv6.
func PowerShell(openings []Opening) string {
	var text strings.Builder
	text.WriteString(`$ErrorActionPreference = 'Stop'
Get-NetFirewallRule -Group 'Stavren' -ErrorAction SilentlyContinue | Remove-NetFirewallRule
Get-NetFirewallRule -Direction Inbound -Enabled True -Action Allow |
  Where-Object { $_.Group -ne '@FirewallAPI.dll,-25000' } | Disable-NetFirewallRule
`)
	count := 0
	for _, opening := range openings {
		for _, from := range opening.sources() {
			for _, protocol := range opening.windowsProtocols(from) {
				count++
				fmt.Fprintf(&text, "New-NetFirewallRule -Name 'stavren-%d' -DisplayName %s -Group 'Stavren' "+
					"-Direction Inbound -Action Allow%s%s | Out-Null\n", count,
					quote.PowerShell("Stavren: "+opening.String()), protocol, windowsSource(from))
			}
		}
	}
	text.WriteString("Set-NetFirewallProfile -All -Enabled True -DefaultInboundAction Block\n")
	return text.String()
}

// String returns the opening's ports in the form of definitions.
func (o Opening) String() string {
	return fleet.PortRange{Protocol: o.Protocol, First: o.First, Last: o.Last}.String()
}

// windowsProtocols returns a condition for each protocol that a source may use.
func (o Opening) windowsProtocols(from netip.Prefix) []string {
	switch {
	case o.Protocol == fleet.AnyProtocol:
		return []string{""}
	case o.Protocol == fleet.ICMP && !from.IsValid():
		return []string{" -Protocol ICMPv4", " -Protocol ICMPv6"}
	case o.Protocol == fleet.ICMP && from.Addr().Is4():
		return []string{" -Protocol ICMPv4"}
	case o.Protocol == fleet.ICMP:
		return []string{" -Protocol ICMPv6"}
	}
	return []string{fmt.Sprintf(" -Protocol %s -LocalPort %s", strings.ToUpper(string(o.Protocol)), o.ports("-"))}
}

// windowsSource names a source. A prefix of no bits is refused there, a range isn't.
func windowsSource(from netip.Prefix) string {
	switch {
	case !from.IsValid():
		return ""
	case from.Bits() == 0 && from.Addr().Is4():
		return " -RemoteAddress 0.0.0.0-255.255.255.255"
	case from.Bits() == 0:
		return " -RemoteAddress ::-ffff:ffff:ffff:ffff:ffff:ffff:ffff:ffff"
	}
	return " -RemoteAddress " + from.Masked().String()
}
