# The collector of Fixed Anchor for Windows: reads how this machine is connected, and changes nothing.
#
# It prints one JSON object in ASCII, for `fixed-anchor survey` elsewhere. Run it elevated, in Windows PowerShell 5.1
# or PowerShell 7:  .\collector.ps1 > gannet-ws.collection
# Where no script file may run, `docs/windows.md` says how it goes in all the same.
$ProgressPreference = 'SilentlyContinue'
$ErrorActionPreference = 'Stop'
$mode = "$($ExecutionContext.SessionState.LanguageMode)"
if ($mode -ne 'FullLanguage') {
    # Here no method can be called: the mode is all that can be told.
    ConvertTo-Json -Compress -InputObject @{ fixed_anchor_windows = 1; language_mode = $mode }
    exit 0
}

$missing = @{}
function Miss([string] $what, $failed) { $missing[$what] = "$($failed.Exception.Message)" }
# The value of a property that may not be there.
function Value($object, [string] $name) {
    if ($null -eq $object) { return $null }
    $found = $object.PSObject.Properties[$name]
    if ($null -eq $found) { return $null }
    return $found.Value
}
function Text($object, [string] $name) { return "$(Value $object $name)" }
function Texts($object, [string] $name) { return @(@(Value $object $name) | Where-Object { $null -ne $_ } | ForEach-Object { "$_" }) }
function Has([string] $command) { return $null -ne (Get-Command -Name $command -ErrorAction SilentlyContinue) }
# Seconds of a lifetime; nothing for one without end.
function Seconds($span) {
    if ($null -eq $span -or $span.TotalDays -gt 36500) { return $null }
    return [int64] $span.TotalSeconds
}
function Hexadecimal($bytes) {
    if ($null -eq $bytes) { return $null }
    return (@($bytes) | ForEach-Object { '{0:x2}' -f $_ }) -join ''
}

$facts = [ordered]@{ fixed_anchor_windows = 1; language_mode = $mode }
$facts.edition = "$($PSVersionTable.PSEdition)"
$facts.version = "$($PSVersionTable.PSVersion)"
try {
    # The mandatory level high, or system: a number, whatever the language is.
    $facts.elevated = @(@(& ([System.IO.Path]::Combine([System.Environment]::SystemDirectory, 'whoami.exe')) /groups) -match 'S-1-16-(12288|16384)').Count -gt 0
} catch { Miss 'elevated' $_ }
try {
    $facts.execution_policy = @(Get-ExecutionPolicy -List | ForEach-Object { @{ scope = "$($_.Scope)"; policy = "$($_.ExecutionPolicy)" } })
} catch { Miss 'execution_policy' $_ }
try {
    $computer = Get-CimInstance -ClassName Win32_ComputerSystem -ErrorAction Stop
    $system = Get-CimInstance -ClassName Win32_OperatingSystem -ErrorAction Stop
    $facts.host = Text $computer 'Name'
    $facts.dns_host = Text $computer 'DNSHostName'
    $facts.domain = Text $computer 'Domain'
    $facts.domain_member = [bool] (Value $computer 'PartOfDomain')
    $facts.system = (Text $system 'Caption') + ' ' + (Text $system 'Version')
} catch { Miss 'computer' $_ }

# --- the adapters, and what is in force on them -------------------------------------------
$guids = @()
try {
    $facts.adapters = @(Get-NetAdapter -IncludeHidden -ErrorAction Stop | ForEach-Object {
        $guids += "$($_.InterfaceGuid)"
        @{
            name = "$($_.Name)"; description = Text $_ 'InterfaceDescription'; guid = "$($_.InterfaceGuid)"
            index = [int] $_.ifIndex; mac = "$($_.MacAddress)"; permanent_mac = Text $_ 'PermanentAddress'
            status = "$($_.Status)"; hardware = [bool] (Value $_ 'HardwareInterface'); virtual = [bool] (Value $_ 'Virtual')
            hidden = [bool] (Value $_ 'Hidden'); media = Text $_ 'PhysicalMediaType'; component = Text $_ 'ComponentID'
        }
    })
} catch { Miss 'adapters' $_ }
try {
    # A switch, a team or load balancing that has an adapter, whatever its description is.
    $takers = 'vms_pp', 'ms_implat', 'ms_wlbs'
    $facts.bindings = @(Get-NetAdapterBinding -IncludeHidden -ErrorAction Stop | Where-Object { [bool] $_.Enabled -and $takers -contains "$($_.ComponentID)" } | ForEach-Object {
        @{ name = "$($_.Name)"; description = Text $_ 'InterfaceDescription'; component = "$($_.ComponentID)" }
    })
} catch { Miss 'bindings' $_ }
try {
    $facts.ip_interfaces = @(Get-NetIPInterface -ErrorAction Stop | ForEach-Object {
        @{
            index = [int] $_.ifIndex; family = "$($_.AddressFamily)"; dhcp = "$($_.Dhcp)"
            metric = [int64] $_.InterfaceMetric; automatic_metric = Text $_ 'AutomaticMetric'; mtu = [int64] $_.NlMtu
            state = Text $_ 'ConnectionState'; router_discovery = Text $_ 'RouterDiscovery'
            ignores_defaults = Text $_ 'IgnoreDefaultRoutes'
        }
    })
} catch { Miss 'ip_interfaces' $_ }
$facts.addresses = @()
$facts.routes = @()
foreach ($store in 'ActiveStore', 'PersistentStore') {
    try {
        $facts.addresses += @(Get-NetIPAddress -PolicyStore $store -ErrorAction Stop | ForEach-Object {
            @{
                store = $store; index = [int] $_.InterfaceIndex; address = "$($_.IPAddress)"; prefix = [int] $_.PrefixLength
                prefix_origin = "$($_.PrefixOrigin)"; suffix_origin = "$($_.SuffixOrigin)"; state = "$($_.AddressState)"
                skip_as_source = [bool] $_.SkipAsSource; seconds = Seconds (Value $_ 'ValidLifetime')
            }
        })
    } catch { Miss "addresses, $store" $_ }
    try {
        $facts.routes += @(Get-NetRoute -PolicyStore $store -ErrorAction Stop | ForEach-Object {
            @{
                store = $store; index = [int] $_.InterfaceIndex; destination = "$($_.DestinationPrefix)"
                next_hop = "$($_.NextHop)"; metric = [int64] $_.RouteMetric; protocol = Text $_ 'Protocol'
            }
        })
    } catch { Miss "routes, $store" $_ }
}
try {
    $facts.resolvers = @(Get-DnsClientServerAddress -ErrorAction Stop | ForEach-Object {
        @{ index = [int] $_.InterfaceIndex; family = "$($_.AddressFamily)"; servers = @(Texts $_ 'ServerAddresses') }
    })
} catch { Miss 'resolvers' $_ }
try {
    $facts.dns = @(Get-DnsClient -ErrorAction Stop | ForEach-Object {
        @{
            index = [int] $_.InterfaceIndex; suffix = Text $_ 'ConnectionSpecificSuffix'
            registers = [bool] (Value $_ 'RegisterThisConnectionsAddress'); uses_suffix = [bool] (Value $_ 'UseSuffixWhenRegistering')
        }
    })
} catch { Miss 'dns' $_ }
try { $facts.search = @(Texts (Get-DnsClientGlobalSetting -ErrorAction Stop) 'SuffixSearchList') } catch { Miss 'search' $_ }
try {
    $facts.profiles = @(Get-NetConnectionProfile -ErrorAction Stop | ForEach-Object {
        @{ index = [int] $_.InterfaceIndex; name = "$($_.Name)"; category = "$($_.NetworkCategory)" }
    })
} catch { Miss 'profiles' $_ }

# --- what is kept in the registry, and what the last lease gave ---------------------------
$tcpip = 'HKLM:\SYSTEM\CurrentControlSet\Services\Tcpip\Parameters'
$facts.kept = @()
foreach ($guid in $guids) {
    $path = "$tcpip\Interfaces\$guid"
    try {
        if (-not (Test-Path -LiteralPath $path)) { continue }
        $six = $null
        $path6 = "HKLM:\SYSTEM\CurrentControlSet\Services\Tcpip6\Parameters\Interfaces\$guid"
        if (Test-Path -LiteralPath $path6) { $six = Get-ItemProperty -LiteralPath $path6 -ErrorAction Stop }
        $key = Get-ItemProperty -LiteralPath $path -ErrorAction Stop
        $alternate = "HKLM:\SYSTEM\CurrentControlSet\Services\Dhcp\Configurations\Alternate_$guid"
        $options, $netbios = $null, $null
        $netbt = "HKLM:\SYSTEM\CurrentControlSet\Services\NetBT\Parameters\Interfaces\Tcpip_$guid"
        if (Test-Path -LiteralPath $netbt) { $netbios = Get-ItemProperty -LiteralPath $netbt -ErrorAction Stop }
        if (Test-Path -LiteralPath $alternate) { $options = Value (Get-ItemProperty -LiteralPath $alternate -ErrorAction Stop) 'Options' }
        $facts.kept += @{
            guid = $guid; dhcp = Text $key 'EnableDHCP'; addresses = @(Texts $key 'IPAddress'); masks = @(Texts $key 'SubnetMask')
            gateways = @(Texts $key 'DefaultGateway'); metrics = @(Texts $key 'DefaultGatewayMetric')
            name_servers = Text $key 'NameServer'; name_servers6 = Text $six 'NameServer'; domain = Text $key 'Domain'
            active_configurations = @(Texts $key 'ActiveConfigurations'); alternate = Hexadecimal $options
            autoconfiguration = Text $key 'IPAutoconfigurationEnabled'; profile_name_servers = Text $key 'ProfileNameServer'
            netbios_servers = @(Texts $netbios 'NameServerList' | Where-Object { $_ })
            lease = @{
                address = Text $key 'DhcpIPAddress'; mask = Text $key 'DhcpSubnetMask'; server = Text $key 'DhcpServer'
                gateways = @(Texts $key 'DhcpDefaultGateway'); name_servers = Text $key 'DhcpNameServer'; domain = Text $key 'DhcpDomain'
                obtained = Text $key 'LeaseObtainedTime'; ends = Text $key 'LeaseTerminatesTime'
                # All options that the server gave: routes, name services of old, proxy discovery, time servers.
                options = Hexadecimal (Value $key 'DhcpInterfaceOptions')
            }
        }
    } catch { Miss "kept, $guid" $_ }
}
try {
    $policies = 'HKLM:\SOFTWARE\Policies\Microsoft\Windows NT\DNSClient'
    $facts.policies = @{}
    if (Test-Path -LiteralPath $policies) {
        $key = Get-ItemProperty -LiteralPath $policies -ErrorAction Stop
        foreach ($name in 'SearchList', 'NameServer', 'PrimaryDnsSuffix', 'AdapterDomainName') {
            $said = @(Texts $key $name)
            if ($said.Count -gt 0) { $facts.policies[$name] = $said }
        }
    }
} catch { Miss 'policies' $_ }

# --- what makes a move risky --------------------------------------------------------------
try {
    $watched = 'NTDS', 'DNS', 'DHCPServer', 'ClusSvc', 'vmms', 'RemoteAccess', 'WINS', 'CertSvc', 'MSSQLSERVER'
    # Agents by which clouds set up the machines that run in them.
    $watched += 'WindowsAzureGuestAgent', 'AmazonSSMAgent', 'GCEAgent', 'cloudbase-init'
    $facts.services = @(Get-Service -ErrorAction Stop | Where-Object { $watched -contains "$($_.Name)" } | ForEach-Object {
        @{ name = "$($_.Name)"; status = "$($_.Status)" }
    })
} catch { Miss 'services' $_ }
$facts.teams = @()
if (Has 'Get-NetLbfoTeam') {
    try {
        $facts.teams = @(Get-NetLbfoTeam -ErrorAction Stop | ForEach-Object {
            @{ name = "$($_.Name)"; members = @(Texts $_ 'Members'); interfaces = @(Texts $_ 'TeamNics') }
        })
    } catch { Miss 'teams' $_ }
}
$facts.switches = @()
if (Has 'Get-VMSwitch') {
    try {
        $facts.switches = @(Get-VMSwitch -ErrorAction Stop | ForEach-Object {
            @{ name = "$($_.Name)"; kind = "$($_.SwitchType)"; adapters = @(Texts $_ 'NetAdapterInterfaceDescriptions') }
        })
    } catch { Miss 'switches' $_ }
}
$facts.boot_disks = @()
if (Has 'Get-Disk') {
    try {
        $facts.boot_disks = @(Get-Disk -ErrorAction Stop | Where-Object { [bool] (Value $_ 'IsBoot') -or [bool] (Value $_ 'IsSystem') } | ForEach-Object { "$($_.BusType)" })
    } catch { Miss 'boot_disks' $_ }
}
$facts.persistent_routes = @()
try {
    # Their names are what they say.
    if (Test-Path -LiteralPath "$tcpip\PersistentRoutes") {
        $key = Get-ItemProperty -LiteralPath "$tcpip\PersistentRoutes" -ErrorAction Stop
        $facts.persistent_routes = @($key.PSObject.Properties | ForEach-Object { "$($_.Name)" } | Where-Object { $_ -match '^[0-9.]+,[0-9.]+,[0-9.]+,' })
    }
} catch { Miss 'persistent_routes' $_ }
$facts.sockets = @()
try {
    $processes = @{}
    Get-Process -ErrorAction Stop | ForEach-Object { $processes["$($_.Id)"] = "$($_.ProcessName)" }
    $facts.sockets += @(Get-NetTCPConnection -State Listen -ErrorAction SilentlyContinue | ForEach-Object {
        @{ protocol = 'tcp'; address = "$($_.LocalAddress)"; port = [int] $_.LocalPort; process = $processes["$($_.OwningProcess)"] }
    })
    $facts.sockets += @(Get-NetUDPEndpoint -ErrorAction SilentlyContinue | ForEach-Object {
        @{ protocol = 'udp'; address = "$($_.LocalAddress)"; port = [int] $_.LocalPort; process = $processes["$($_.OwningProcess)"] }
    })
} catch { Miss 'sockets' $_ }

$facts.missing = $missing
$json = ConvertTo-Json -Depth 6 -Compress -InputObject $facts
# Whatever code page prints it: ASCII alone.
[regex]::Replace($json, '[^\x20-\x7e]', { param($found) '\u{0:x4}' -f [int] [char] $found.Value })
