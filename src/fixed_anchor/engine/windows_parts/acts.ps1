
# --- the acts of a change ------------------------------------------------------------------------
# Each leaves what it wants, whatever of it is so already: a rollback begins anywhere.
function Perform($act) {
    $index = 0
    if (Value $act 'guid') { $index = Index "$($act.guid)" }
    switch ("$($act.do)") {
        'resolvers' {
            if (@($act.servers).Count) { Set-DnsClientServerAddress -InterfaceIndex $index -ServerAddresses ([string[]] @($act.servers)) -ErrorAction Stop }
            else { Set-DnsClientServerAddress -InterfaceIndex $index -ResetServerAddresses -ErrorAction Stop }
        }
        'netbios' { Set-Netbios $index "$($act.guid)" @($act.servers | ForEach-Object { "$_" }) }
        'suffix' {
            Set-DnsClient -InterfaceIndex $index -ConnectionSpecificSuffix "$($act.suffix)" -ErrorAction Stop
            # Some releases do nothing where it is to be empty.
            if (-not $act.suffix -and (Text (Key "$tcpip\$($act.guid)") 'Domain')) { Set-ItemProperty -LiteralPath "$tcpip\$($act.guid)" -Name 'Domain' -Value '' -Type String -ErrorAction Stop }
        }
        'search' {
            Set-DnsClientGlobalSetting -SuffixSearchList ([string[]] @($act.domains)) -ErrorAction Stop
            if (-not @($act.domains).Count -and @(Texts (Get-DnsClientGlobalSetting -ErrorAction Stop) 'SuffixSearchList').Count) { Set-DnsClientGlobalSetting -SuffixSearchList ([string[]] @('')) -ErrorAction Stop }
        }
        'dhcp' {
            Set-NetIPInterface -InterfaceIndex $index -AddressFamily IPv4 -Dhcp $(if ($act.asks) { 'Enabled' } else { 'Disabled' }) -ErrorAction Stop
            if ($act.asks) { Clear-Left "$($act.guid)" }
        }
        'routers' { Set-NetIPInterface -InterfaceIndex $index -AddressFamily IPv6 -RouterDiscovery $(if ($act.hears) { 'Enabled' } else { 'Disabled' }) -ErrorAction Stop }
        'default-routes' { Set-NetIPInterface -InterfaceIndex $index -AddressFamily "IPv$($act.version)" -IgnoreDefaultRoutes $(if ($act.takes) { 'Disabled' } else { 'Enabled' }) -ErrorAction Stop }
        'mtu' { Set-NetIPInterface -InterfaceIndex $index -AddressFamily "IPv$($act.version)" -NlMtuBytes ([int] $act.size) -ErrorAction Stop }
        'version' { Speak "$($act.guid)" ([int] $act.version) ([bool] $act.speaks) }
        'hold-ipv4' { Call-Cim $index 'EnableStatic' @{ IPAddress = [string[]] @($act.addresses); SubnetMask = [string[]] @($act.masks) } }
        'gateways' { Call-Cim $index 'SetGateways' @{ DefaultIPGateway = [string[]] @($act.addresses); GatewayCostMetric = [uint16[]] @($act.metrics) } }
        'add-address' { Add-Address $index $act }
        'drop-address' { Drop-Address $index "$($act.address)" }
        'source' { Set-Source $index "$($act.address)" ([bool] $act.is_source) }
        'add-route' { Add-Route $index $act }
        'drop-route' { Drop-Route $index "$($act.destination)" "$($act.next_hop)" }
        'fallback' { Set-Fallback "$($act.guid)" "$($act.options)" }
        'rename' { Rename-Computer -NewName "$($act.name)" -Force -ErrorAction Stop }
        default { throw "this engine knows no act $($act.do)" }
    }
}
# Performs the acts of a list; with $any failures are logged and passed over.
function Perform-All([string] $list, [bool] $any) {
    $all = $true
    foreach ($act in Listed $list) {
        Log "act: $($act.shown)"
        $begun = Ticks
        while ($true) {
            try {
                if (-not (May-Call "$($act.shown)")) { throw (Not-Back) }
                Perform $act
                Came-Back
                Log "act ended after $([int] ((Ticks) - $begun)) s"
                break
            } catch {
                Came-Back
                # What another call has just made may take a moment until it is found.
                if ((Is-Not-Found $_) -and (Ticks) - $begun -lt 5) { Pause; continue }
                $said = (("$($_.Exception.Message)" -split '[\r\n]+')[0] -replace '[\x00-\x1f\x7f]', ' ').Trim()
                Log "act failed: $said"
                $all = $false
                if (-not $any) { $now.failed = "this failed: $($act.shown): $said"; return $false }
                break
            }
        }
    }
    return $all
}
function Is-Not-Found($failed) { return "$($failed.CategoryInfo.Category)" -eq 'ObjectNotFound' -or "$($failed.FullyQualifiedErrorId)".Contains('NotFound') }
# What a fixed setting left in the registry, which a restart might bring under DHCP: it goes.
function Clear-Left([string] $guid) {
    $key = Key "$tcpip\$guid"
    foreach ($name in 'IPAddress', 'SubnetMask', 'DefaultGateway', 'DefaultGatewayMetric') {
        if (@(Texts $key $name | Where-Object { $_ -and $_ -ne '0.0.0.0' }).Count) { Set-ItemProperty -LiteralPath "$tcpip\$guid" -Name $name -Value ([string[]] @()) -Type MultiString -ErrorAction Stop }
    }
}
# One call for everything of IPv4; it answers with a number: 0 done, 1 done with a restart.
function Call-Cim([int] $index, [string] $method, $arguments) {
    $until = (Ticks) + 10
    while ($true) {
        $config = Get-CimInstance -ClassName Win32_NetworkAdapterConfiguration -Filter "InterfaceIndex = $index" -ErrorAction Stop
        $answer = "$((Invoke-CimMethod -InputObject $config -MethodName $method -Arguments $arguments -ErrorAction Stop).ReturnValue)"
        if (@('0', '1') -contains $answer) { return }
        # Right after another call, or while a dialog of the adapter is open, it may take a moment.
        if (-not $answers.ContainsKey($answer) -or (Ticks) -ge $until) { throw "$method answered $answer" + $(if ($answers.ContainsKey($answer)) { ": $($answers[$answer])" }) }
        Pause
    }
}
$answers = @{
    '84' = 'IP is not enabled on the adapter, or its cable is out'
    '2147786788' = 'somebody else is changing the settings; close every dialog in which they are open'
}
# Without a carrier the call takes nothing, and on some releases none cannot be set: then a restart brings it.
function Set-Netbios([int] $index, [string] $guid, [string[]] $servers) {
    $two = @($servers) + @('', '')
    if (Is-Up $guid) { Call-Cim $index 'SetWINSServer' @{ WINSPrimaryServer = $two[0]; WINSSecondaryServer = $two[1] } }
    $there = @(Texts (Key "$netbt\Tcpip_$guid") 'NameServerList' | Where-Object { $_ })
    if (($there -join ',') -ne (@($servers) -join ',')) { Set-ItemProperty -LiteralPath "$netbt\Tcpip_$guid" -Name 'NameServerList' -Value ([string[]] @($servers)) -Type MultiString -ErrorAction Stop }
}
function Found-At([int] $index, [string] $address, [string] $store) {
    return @(Addresses $index $store | Where-Object { (Bare "$($_.IPAddress)") -eq $address })
}
function Add-Address([int] $index, $act) {
    $address = "$($act.address)"
    foreach ($store in 'ActiveStore', 'PersistentStore') {
        foreach ($found in Found-At $index $address $store) {
            if ([int] $found.PrefixLength -ne [int] $act.prefix -or "$($found.PrefixOrigin)" -ne 'Manual') { Remove-NetIPAddress -InterfaceIndex $index -IPAddress $address -PolicyStore $store -Confirm:$false -ErrorAction Stop }
        }
    }
    $kept = @(Found-At $index $address 'PersistentStore').Count
    if ($kept -and @(Found-At $index $address 'ActiveStore').Count) { Set-Source $index $address ([bool] $act.is_source); return }
    # In one store alone it would be in the way of itself.
    foreach ($store in 'ActiveStore', 'PersistentStore') {
        if (@(Found-At $index $address $store).Count) { Remove-NetIPAddress -InterfaceIndex $index -IPAddress $address -PolicyStore $store -Confirm:$false -ErrorAction Stop }
    }
    New-NetIPAddress -InterfaceIndex $index -IPAddress $address -PrefixLength ([int] $act.prefix) -SkipAsSource (-not [bool] $act.is_source) -ErrorAction Stop | Out-Null
}
# From both stores, by its name; one that is leased is not ours to take.
function Drop-Address([int] $index, [string] $address) {
    if (@(Found-At $index $address 'ActiveStore' | Where-Object { "$($_.PrefixOrigin)" -eq 'Manual' }).Count) {
        Remove-NetIPAddress -InterfaceIndex $index -IPAddress $address -Confirm:$false -ErrorAction Stop
    }
    foreach ($store in 'ActiveStore', 'PersistentStore') {
        if (@(Found-At $index $address $store | Where-Object { "$($_.PrefixOrigin)" -eq 'Manual' }).Count) {
            Remove-NetIPAddress -InterfaceIndex $index -IPAddress $address -PolicyStore $store -Confirm:$false -ErrorAction Stop
        }
    }
}
function Set-Source([int] $index, [string] $address, [bool] $may) {
    Set-NetIPAddress -InterfaceIndex $index -IPAddress $address -SkipAsSource (-not $may) -ErrorAction Stop
    foreach ($found in Found-At $index $address 'PersistentStore') {
        if ([bool] $found.SkipAsSource -eq $may) { Set-NetIPAddress -InterfaceIndex $index -IPAddress $address -SkipAsSource (-not $may) -PolicyStore PersistentStore -ErrorAction Stop }
    }
}
function Route-At([int] $index, [string] $destination, [string] $hop, [string] $store) {
    return @(Routes $index $store | Where-Object { "$($_.DestinationPrefix)" -eq $destination -and (Bare "$($_.NextHop)") -eq $hop })
}
function Add-Route([int] $index, $act) {
    $destination, $hop = "$($act.destination)", "$($act.next_hop)"
    $there = @(Route-At $index $destination $hop 'PersistentStore')
    if ($there.Count -and @(Route-At $index $destination $hop 'ActiveStore').Count -and [int] $there[0].RouteMetric -eq [int] $act.metric) { return }
    Drop-Route $index $destination $hop
    New-NetRoute -InterfaceIndex $index -DestinationPrefix $destination -NextHop $hop -RouteMetric ([int] $act.metric) -ErrorAction Stop | Out-Null
}
# From both stores, by its name; while the adapter asks DHCP what is in force may be the lease's own.
function Drop-Route([int] $index, [string] $destination, [string] $hop) {
    $sides = Sides $index
    $family = if (Is-Six $destination) { 'IPv6' } else { 'IPv4' }
    $asks = $family -eq 'IPv4' -and $sides.ContainsKey('IPv4') -and "$($sides['IPv4'].Dhcp)" -eq 'Enabled'
    if (-not $asks -and @(Route-At $index $destination $hop 'ActiveStore').Count) {
        Remove-NetRoute -InterfaceIndex $index -DestinationPrefix $destination -NextHop $hop -Confirm:$false -ErrorAction Stop
    }
    foreach ($store in $(if ($asks) { , 'PersistentStore' } else { 'ActiveStore', 'PersistentStore' })) {
        if (@(Route-At $index $destination $hop $store).Count) {
            Remove-NetRoute -InterfaceIndex $index -DestinationPrefix $destination -NextHop $hop -PolicyStore $store -Confirm:$false -ErrorAction Stop
        }
    }
    if ($destination -eq '0.0.0.0/0') { Forget-Gateway $index $hop }
}
# Whether the call takes a gateway from the registry as well differs; a restart would bring it.
function Forget-Gateway([int] $index, [string] $hop) {
    foreach ($guid in Guids) {
        if ((Index $guid) -ne $index) { continue }
        $key = Key "$tcpip\$guid"
        $gateways, $metrics = @(Texts $key 'DefaultGateway'), @(Texts $key 'DefaultGatewayMetric')
        if ($gateways -notcontains $hop) { continue }
        $stay = @(for ($at = 0; $at -lt $gateways.Count; $at++) { if ($gateways[$at] -ne $hop) { $at } })
        Set-ItemProperty -LiteralPath "$tcpip\$guid" -Name 'DefaultGateway' -Value ([string[]] @($stay | ForEach-Object { $gateways[$_] })) -Type MultiString -ErrorAction Stop
        Set-ItemProperty -LiteralPath "$tcpip\$guid" -Name 'DefaultGatewayMetric' -Value ([string[]] @($stay | ForEach-Object { if ($metrics.Count -gt $_) { $metrics[$_] } else { '0' } })) -Type MultiString -ErrorAction Stop
    }
}
# The binding is passed on as an object: by its name it would be a pattern.
function Speak([string] $guid, [int] $version, [bool] $speaks) {
    $component = if ($version -eq 6) { 'ms_tcpip6' } else { 'ms_tcpip' }
    $adapter = Adapter $guid
    $binding = Get-NetAdapterBinding -ComponentID $component -IncludeHidden -ErrorAction Stop | Where-Object { "$($_.Name)" -ceq "$($adapter.Name)" -and "$($_.InterfaceDescription)" -ceq "$($adapter.InterfaceDescription)" }
    if ($null -eq $binding) { throw "there is no binding $component on $(Named $guid)" }
    if ($speaks) { $binding | Enable-NetAdapterBinding -ErrorAction Stop } else { $binding | Disable-NetAdapterBinding -ErrorAction Stop }
}
# No documented call sets it. It is read when no server answers: nothing need be restarted.
function Set-Fallback([string] $guid, [string] $options) {
    $key = "$alternates\Alternate_$guid"
    if ($options) {
        $bytes = New-Object -TypeName 'byte[]' -ArgumentList ($options.Length / 2)
        for ($at = 0; $at -lt $bytes.Length; $at++) { $bytes[$at] = [Convert]::ToByte($options.Substring(2 * $at, 2), 16) }
        if (-not (Test-Path -LiteralPath $key)) { New-Item -Path $key -Force -ErrorAction Stop | Out-Null }
        Set-ItemProperty -LiteralPath $key -Name 'Options' -Value $bytes -Type Binary -ErrorAction Stop
        Set-ItemProperty -LiteralPath "$tcpip\$guid" -Name 'ActiveConfigurations' -Value ([string[]] @("Alternate_$guid")) -Type MultiString -ErrorAction Stop
        return
    }
    if (@(Texts (Key "$tcpip\$guid") 'ActiveConfigurations').Count) { Remove-ItemProperty -LiteralPath "$tcpip\$guid" -Name 'ActiveConfigurations' -ErrorAction Stop }
    if (Test-Path -LiteralPath $key) { Remove-Item -LiteralPath $key -Recurse -ErrorAction Stop }
}
