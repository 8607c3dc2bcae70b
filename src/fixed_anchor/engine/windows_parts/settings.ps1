
# --- what is set on the adapters of the change, and what is in force ---------------------------
$tcpip = 'HKLM:\SYSTEM\CurrentControlSet\Services\Tcpip\Parameters\Interfaces'
$tcpip6 = 'HKLM:\SYSTEM\CurrentControlSet\Services\Tcpip6\Parameters\Interfaces'
$netbt = 'HKLM:\SYSTEM\CurrentControlSet\Services\NetBT\Parameters\Interfaces'
$alternates = 'HKLM:\SYSTEM\CurrentControlSet\Services\Dhcp\Configurations'
# The metric of a gateway for which the dialog wrote 0, or nothing.
$usual_metric = 256
# Adapters are found by their GUID: names are people's, and numbers change with a restart.
function Adapter([string] $guid) { return Get-NetAdapter -IncludeHidden -ErrorAction Stop | Where-Object { "$($_.InterfaceGuid)" -eq $guid } | Select-Object -First 1 }
function Index([string] $guid) {
    $found = Adapter $guid
    if ($null -eq $found) { throw "there is no adapter $guid" }
    return [int] $found.ifIndex
}
function Named([string] $guid) {
    foreach ($one in Listed 'adapters') { if ($one.guid -eq $guid) { return "$($one.name)" } }
    return $guid
}
function Guids { return @(Listed 'adapters' | ForEach-Object { "$($_.guid)" }) }
function Is-Up([string] $guid) { return (Text (Adapter $guid) 'Status') -eq 'Up' }
function Key([string] $path) {
    if (-not (Test-Path -LiteralPath $path)) { return $null }
    return Get-ItemProperty -LiteralPath $path -ErrorAction Stop
}
function In-List([string] $text) { return @($text -split '[,\s]+' | Where-Object { $_ }) }
function Bits([string] $mask) {
    $bits = 0
    foreach ($byte in [System.Net.IPAddress]::Parse($mask).GetAddressBytes()) { for ($one = [int] $byte; $one; $one = $one -band ($one - 1)) { $bits++ } }
    return $bits
}
function Is-Six([string] $address) { return $address.Contains(':') }
function Bare([string] $address) { return ($address -split '%')[0] }
function Is-Local([string] $address) { return (Is-Six $address) -and $address -match '^fe[89ab]' }
function Addresses([int] $index, [string] $store) {
    return @(Get-NetIPAddress -PolicyStore $store -ErrorAction Stop | Where-Object { [int] $_.InterfaceIndex -eq $index })
}
function Routes([int] $index, [string] $store) {
    return @(Get-NetRoute -PolicyStore $store -ErrorAction Stop | Where-Object { [int] $_.InterfaceIndex -eq $index })
}
function Sides([int] $index) {
    $sides = @{}
    Get-NetIPInterface -ErrorAction Stop | Where-Object { [int] $_.ifIndex -eq $index } | ForEach-Object { $sides["$($_.AddressFamily)"] = $_ }
    return $sides
}
# What a restart would bring, in the lines by which a draft tells it; all adapters of the change.
function Kept-Lines {
    foreach ($guid in Guids) { Kept-Of $guid }
    'machine search ' + $(if (($list = @(Texts (Get-DnsClientGlobalSetting -ErrorAction Stop) 'SuffixSearchList' | Where-Object { $_ })).Count) { $list -join ',' } else { '-' })
}
function Kept-Of([string] $guid) {
    $index = Index $guid
    $sides = Sides $index
    $key = Key "$tcpip\$guid"
    $never = @(@(Addresses $index 'ActiveStore') + @(Addresses $index 'PersistentStore') | Where-Object { [bool] $_.SkipAsSource } | ForEach-Object { Bare "$($_.IPAddress)" })
    $asks = $sides.ContainsKey('IPv4') -and (Text $key 'EnableDHCP') -eq '1'
    $masks = @(Texts $key 'SubnetMask')
    $held = @()
    $at = 0
    foreach ($address in @(Texts $key 'IPAddress')) {
        if ($address -and $address -ne '0.0.0.0' -and $sides.ContainsKey('IPv4') -and -not $asks) { $held += "$address/$(Bits $masks[$at])" }
        $at++
    }
    "$guid ipv4 " + $(if ($asks) { 'dhcp' } elseif ($held.Count) { 'fixed' } else { 'off' })
    $held6 = @(Addresses $index 'PersistentStore' | Where-Object { (Is-Six "$($_.IPAddress)") -and -not (Is-Local "$($_.IPAddress)") } | ForEach-Object { "$(Bare $_.IPAddress)/$($_.PrefixLength)" })
    $hears = $sides.ContainsKey('IPv6') -and @('Enabled', '1') -contains (Text $sides['IPv6'] 'RouterDiscovery')
    "$guid ipv6 " + $(if ($held6.Count) { 'fixed' } elseif ($hears) { 'ra' } else { 'off' })
    "$guid hears-routers " + $(if ($hears) { 'yes' } else { 'no' })
    foreach ($one in $held + $held6) { "$guid address $one " + $(if ($never -contains ($one -split '/')[0]) { 'aside' } else { 'source' }) }
    $metrics = @(Texts $key 'DefaultGatewayMetric')
    $at = 0
    foreach ($gateway in @(Texts $key 'DefaultGateway')) {
        if ($gateway -and $sides.ContainsKey('IPv4') -and -not $asks) { "$guid gateway $gateway metric " + $(if ($metrics.Count -gt $at -and $metrics[$at] -match '^0*[1-9]') { [int] $metrics[$at] } else { $usual_metric }) }
        $at++
    }
    # Under DHCP nothing of this is wanted: a restart may bring it all the same.
    if ($asks) {
        $left = @(Texts $key 'IPAddress' | Where-Object { $_ -and $_ -ne '0.0.0.0' })
        $left += @(Addresses $index 'PersistentStore' | Where-Object { "$($_.PrefixOrigin)" -eq 'Manual' -and -not (Is-Six "$($_.IPAddress)") } | ForEach-Object { "$($_.IPAddress)" })
        foreach ($address in @($left | Select-Object -Unique)) { "$guid left address $address" }
        $left = @(Texts $key 'DefaultGateway' | Where-Object { $_ })
        $left += @(Routes $index 'PersistentStore' | Where-Object { "$($_.DestinationPrefix)" -eq '0.0.0.0/0' } | ForEach-Object { "$($_.NextHop)" })
        foreach ($gateway in @($left | Select-Object -Unique)) { "$guid left gateway $gateway" }
    }
    foreach ($route in Routes $index 'PersistentStore') {
        $hop = Bare "$($route.NextHop)"
        if ("$($route.DestinationPrefix)" -eq '0.0.0.0/0') { continue }
        if ("$($route.DestinationPrefix)" -eq '::/0') { "$guid gateway $hop metric $($route.RouteMetric)"; continue }
        "$guid route $($route.DestinationPrefix) via " + $(if (@('0.0.0.0', '::') -contains $hop) { '-' } else { $hop }) + " metric $($route.RouteMetric)"
    }
    $servers = @(In-List (Text $key 'NameServer')) + @(In-List (Text (Key "$tcpip6\$guid") 'NameServer'))
    "$guid resolvers " + $(if ($servers.Count) { $servers -join ',' } else { '-' })
    $servers = @(Texts (Key "$netbt\Tcpip_$guid") 'NameServerList' | Where-Object { $_ })
    "$guid netbios " + $(if ($servers.Count) { $servers -join ',' } else { '-' })
    "$guid suffix " + $(if (Text $key 'Domain') { Text $key 'Domain' } else { '-' })
    foreach ($family in 'IPv4', 'IPv6') {
        $side = if ($sides.ContainsKey($family)) { $sides[$family] } else { $null }
        "$guid default-routes $family " + $(if ((Text $side 'IgnoreDefaultRoutes') -eq 'Enabled') { 'ignored' } else { 'taken' })
        # A size counts where the change is about it.
        if ($null -ne $side -and @(Listed 'was' | Where-Object { "$_".StartsWith("$guid mtu $family ") }).Count) { "$guid mtu $family $($side.NlMtu)" }
    }
    $options = Value (Key "$alternates\Alternate_$guid") 'Options'
    $counts = @(Texts $key 'ActiveConfigurations') -contains "Alternate_$guid"
    "$guid fallback " + $(if ($counts -and $null -ne $options) { (@($options) | ForEach-Object { '{0:x2}' -f $_ }) -join '' } else { '-' })
}
# What must be so until the decision; what was held beside counts no more once it has gone.
function Awaited { if ($now.held_over -or (Is-There 'hold-over')) { return Listed 'wanted' } return Listed 'until_decided' }
# The lines that are in one list alone: "- " of those that are wanted and not there, "+ " of those that are there. What an
# earlier setting had left in the registry is wanted by nobody.
function Differing($there, $wanted) {
    foreach ($line in $wanted) { if ($there -cnotcontains $line -and $line -notmatch ' left ') { "- $line" } }
    foreach ($line in $there) { if ($wanted -cnotcontains $line) { "+ $line" } }
}
# Who has an address that Windows found twice: another adapter of this machine, which answers as well, or another machine.
function Who-Else([int] $index, [string] $address) {
    $own = @(Get-NetIPAddress -PolicyStore 'ActiveStore' -ErrorAction Stop | Where-Object { [int] $_.InterfaceIndex -ne $index -and (Bare "$($_.IPAddress)") -eq $address })
    if ($own.Count) { return 'adapter of this machine' }
    return 'machine'
}
# Of lines that are wanted: which addresses and gateways are not in force yet, and which another machine has.
function Not-In-Force($wanted, $leased) {
    foreach ($guid in Guids) {
        if (-not (Is-Up $guid)) { continue }
        $index = Index $guid
        $active = @(Addresses $index 'ActiveStore')
        $hops = @(Routes $index 'ActiveStore' | Where-Object { "$($_.DestinationPrefix)" -eq '0.0.0.0/0' -or "$($_.DestinationPrefix)" -eq '::/0' } | ForEach-Object { Bare "$($_.NextHop)" })
        foreach ($line in $wanted) {
            $parts = $line -split ' '
            if ($parts[0] -ne $guid) { continue }
            if ($parts[1] -eq 'address') {
                $address = ($parts[2] -split '/')[0]
                $found = @($active | Where-Object { (Bare "$($_.IPAddress)") -eq $address })
                if ($found.Count -eq 0) { "$address is not on $(Named $guid)" }
                elseif ("$($found[0].AddressState)" -eq 'Duplicate') { "another $(Who-Else $index $address) has $($address): Windows found it twice on the segment of $(Named $guid)" }
                elseif ("$($found[0].AddressState)" -ne 'Preferred') { "$address on $(Named $guid) is $($found[0].AddressState)" }
            }
            if ($parts[1] -eq 'gateway' -and $hops -notcontains $parts[2]) { "the gateway $($parts[2]) is not on $(Named $guid)" }
            if ($parts[1] -eq 'ipv4' -and $parts[2] -eq 'dhcp' -and $leased -contains $guid -and -not (Has-Lease $index)) { "no DHCP server has answered on $(Named $guid)" }
        }
    }
}
# The IPv4 address of the lease in force; empty where there is none.
function Lease([int] $index) {
    $found = @(Addresses $index 'ActiveStore' | Where-Object { "$($_.PrefixOrigin)" -eq 'Dhcp' -and -not (Is-Six "$($_.IPAddress)") })
    if ($found.Count) { return "$($found[0].IPAddress)" }
    return ''
}
function Has-Lease([int] $index) { return [bool] (Lease $index) }
# What a person set, or a change, and is in force: fixed addresses, and gateways that are not of the lease.
function In-Force {
    foreach ($guid in Guids) {
        $index = Index $guid
        foreach ($one in Addresses $index 'ActiveStore') { if ("$($one.PrefixOrigin)" -eq 'Manual') { "$guid address $(Bare "$($one.IPAddress)")" } }
        $leased = @(Texts (Key "$tcpip\$guid") 'DhcpDefaultGateway')
        foreach ($one in Routes $index 'ActiveStore') {
            if (@('0.0.0.0/0', '::/0') -contains "$($one.DestinationPrefix)" -and $leased -notcontains "$($one.NextHop)" -and (Text $one 'Protocol') -eq 'NetMgmt') { "$guid gateway $(Bare "$($one.NextHop)")" }
        }
    }
}
# What is in force and was not before, in words.
function Left-In-Force {
    $saved = Saved
    if ($null -eq $saved) { return }
    $before = @(Texts $saved 'in_force')
    foreach ($line in @(In-Force)) {
        $parts = $line -split ' '
        if ($before -cnotcontains $line) { "the $($parts[1]) $($parts[2]) is still in force on $(Named $parts[0])" }
    }
}
function Gateway-Answers {
    foreach ($guid in Guids) {
        foreach ($route in Routes (Index $guid) 'ActiveStore') {
            if ("$($route.DestinationPrefix)" -ne '0.0.0.0/0') { continue }
            $hop = "$($route.NextHop)"
            if ([bool] (Test-Connection -ComputerName $hop -Count 1 -Quiet)) { return $true }
            # One that drops pings is found all the same, by its MAC.
            if (@(Get-NetNeighbor -ErrorAction Stop | Where-Object { "$($_.IPAddress)" -eq $hop -and @('Reachable', 'Delay', 'Probe') -contains "$($_.State)" }).Count) { return $true }
        }
    }
    return $false
}
