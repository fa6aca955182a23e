# Opens the remote desktop and sets the ferry's time zone.
Set-TimeZone -Id 'GMT Standard Time'
Set-ItemProperty -Path 'HKLM:\System\CurrentControlSet\Control\Terminal Server' -Name fDenyTSConnections -Value 0
Enable-NetFirewallRule -DisplayGroup 'Remote Desktop'
