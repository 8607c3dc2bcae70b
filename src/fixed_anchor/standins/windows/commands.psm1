# Stands for the commands of Windows by which network settings are read. The machine is the JSON file in
# $env:FIXED_ANCHOR_WINDOWS, as state.py describes it. What that machine does not have is not defined.
# It is read anew for each command: others change it meanwhile.
# As what it is asked for: while this is loaded that is no question to Windows, which a test may let hang.
$asked = 'loading'
function Machine {
    # Where it is served, what comes by itself has come by now (changing.psm1).
    if ($env:FIXED_ANCHOR_WINDOWS_SERVER) { return Ask $asked }
    return [IO.File]::ReadAllText($env:FIXED_ANCHOR_WINDOWS) | ConvertFrom-Json
}

function Only($given, $value) { return $null -eq $given -or "$given" -eq "$value" }
function All-Of($list) { return @($list | Where-Object { $null -ne $_ }) }

function whoami.exe {
    'Mandatory Label\Any Level  Label  ' + $(if ((Machine).elevated) { 'S-1-16-12288' } else { 'S-1-16-8192' })
}
function Get-CimInstance {
    param([string] $ClassName, [string] $Filter)
    if ($ClassName -eq 'Win32_ComputerSystem') {
        return [pscustomobject] @{
            Name = (Machine).name; DNSHostName = (Machine).dns_name; Domain = (Machine).domain; PartOfDomain = (Machine).member
        }
    }
    if ($ClassName -eq 'Win32_OperatingSystem') {
        # Each start of the machine is an hour after the last one.
        $booted = ([datetime] '2026-11-02T06:00:00Z').AddHours([int] (Machine).booted)
        return [pscustomobject] @{ Caption = (Machine).caption; Version = (Machine).version; LastBootUpTime = $booted }
    }
    if ($ClassName -eq 'Win32_Process') { return [pscustomobject] @{ ParentProcessId = 1; Name = "$((Machine).begun_by)" } }
    if ($ClassName -eq 'Win32_NetworkAdapterConfiguration' -and $Filter -match '^InterfaceIndex = (\d+)$') {
        return [pscustomobject] @{ InterfaceIndex = [int] $Matches[1] }
    }
    throw "Invalid class $ClassName"
}
# What runs the script, where the machine says so: another one than this console.
function Get-Host { if ((Machine).console) { return [pscustomobject] @{ Name = (Machine).console } } return Microsoft.PowerShell.Utility\Get-Host }
function Get-ExecutionPolicy {
    param([switch] $List)
    foreach ($scope in 'MachinePolicy', 'UserPolicy', 'Process', 'CurrentUser', 'LocalMachine') {
        $said = (Machine).execution_policy.PSObject.Properties[$scope]
        [pscustomobject] @{ Scope = $scope; ExecutionPolicy = $(if ($null -eq $said) { 'Undefined' } else { $said.Value }) }
    }
}
function Get-NetAdapter {
    param([switch] $IncludeHidden)
    foreach ($a in All-Of (Machine).adapters) {
        if ($a.hidden -and -not $IncludeHidden) { continue }
        [pscustomobject] @{
            Name = $a.name; InterfaceDescription = $a.description; InterfaceGuid = $a.guid; ifIndex = $a.index
            MacAddress = $a.mac; PermanentAddress = $a.permanent_mac; Status = $a.status; HardwareInterface = $a.hardware
            Virtual = $a.virtual; Hidden = $a.hidden; PhysicalMediaType = $a.media; ComponentID = $a.component
        }
    }
}
# Both IP versions, whether it speaks them or not, and who has taken it.
function Get-NetAdapterBinding {
    [CmdletBinding()]
    param([string] $ComponentID, [switch] $IncludeHidden)
    foreach ($a in All-Of (Machine).adapters) {
        foreach ($component in @('ms_tcpip', 'ms_tcpip6') + @(All-Of $a.bindings)) {
            if ($ComponentID -and $component -ne $ComponentID) { continue }
            [pscustomobject] @{ Name = $a.name; InterfaceDescription = $a.description; ComponentID = $component; Index = $a.index; Enabled = $true }
        }
    }
}
function Get-Disk { [CmdletBinding()] param() foreach ($d in All-Of (Machine).disks) { [pscustomobject] @{ IsBoot = $d.boot; IsSystem = $d.boot; BusType = $d.bus } } }
function Get-NetIPInterface {
    foreach ($a in All-Of (Machine).adapters) {
        foreach ($i in All-Of $a.ip) {
            [pscustomobject] @{
                ifIndex = $a.index; AddressFamily = $i.family; Dhcp = $i.dhcp; InterfaceMetric = $i.metric
                AutomaticMetric = $i.automatic_metric; NlMtu = $i.mtu; ConnectionState = $i.state; RouterDiscovery = $i.router_discovery
                IgnoreDefaultRoutes = $i.ignores_defaults
            }
        }
    }
}
function Get-NetIPAddress {
    param([string] $PolicyStore, [string] $IPAddress)
    foreach ($a in All-Of (Machine).adapters) {
        foreach ($i in All-Of $a.addresses) {
            if ($PolicyStore -and $i.store -ne $PolicyStore) { continue }
            if ($IPAddress -and $i.address -ne $IPAddress) { continue }
            $left = if ($null -eq $i.seconds) { [TimeSpan]::MaxValue } else { [TimeSpan]::FromSeconds($i.seconds) }
            [pscustomobject] @{
                InterfaceIndex = $a.index; IPAddress = $i.address; PrefixLength = $i.prefix; PrefixOrigin = $i.prefix_origin
                SuffixOrigin = $i.suffix_origin; AddressState = $i.state; SkipAsSource = $i.skip_as_source; ValidLifetime = $left
                Store = $i.store
            }
        }
    }
}
# Whom the machine has found, by its state's own list.
function Get-NetNeighbor {
    param([int] $InterfaceIndex)
    foreach ($n in All-Of (Machine).neighbours) {
        if ($InterfaceIndex -and $n.index -ne $InterfaceIndex) { continue }
        [pscustomobject] @{ IPAddress = $n.address; LinkLayerAddress = $n.mac; State = $n.state; InterfaceIndex = $n.index }
    }
}
function Get-NetRoute {
    param([string] $PolicyStore)
    foreach ($a in All-Of (Machine).adapters) {
        foreach ($r in All-Of $a.routes) {
            if ($PolicyStore -and $r.store -ne $PolicyStore) { continue }
            [pscustomobject] @{
                InterfaceIndex = $a.index; DestinationPrefix = $r.destination; NextHop = $r.next_hop; RouteMetric = $r.metric
                Protocol = $r.protocol
            }
        }
    }
}
function Get-DnsClientServerAddress {
    foreach ($a in All-Of (Machine).adapters) {
        foreach ($r in All-Of $a.resolvers) {
            # Its family is the bare number.
            [pscustomobject] @{ InterfaceIndex = $a.index; AddressFamily = $r.family; ServerAddresses = $r.servers }
        }
    }
}
function Get-DnsClient {
    foreach ($a in All-Of (Machine).adapters) {
        [pscustomobject] @{
            InterfaceIndex = $a.index; ConnectionSpecificSuffix = $a.suffix; RegisterThisConnectionsAddress = $a.registers
            UseSuffixWhenRegistering = $a.uses_suffix
        }
    }
}
function Get-DnsClientGlobalSetting { [pscustomobject] @{ SuffixSearchList = (Machine).search } }
function Get-NetConnectionProfile {
    foreach ($a in All-Of (Machine).adapters) {
        if ($a.category) { [pscustomobject] @{ InterfaceIndex = $a.index; Name = $a.network; NetworkCategory = $a.category } }
    }
}
# The registry, by the whole path of a key.
function Key([string] $path) { return (Machine).registry.PSObject.Properties[($path -replace '^HKLM:\\', '')] }
function Test-Path {
    param([string] $LiteralPath)
    return $null -ne (Key $LiteralPath)
}
function Get-ItemProperty {
    param([string] $LiteralPath)
    $found = Key $LiteralPath
    if ($null -eq $found) { throw "Cannot find path '$LiteralPath' because it does not exist." }
    return $found.Value
}
function Get-Service { foreach ($s in All-Of (Machine).services) { [pscustomobject] @{ Name = $s.name; Status = $s.status } } }
function Get-Process { foreach ($p in All-Of (Machine).processes) { [pscustomobject] @{ Id = $p.id; ProcessName = $p.name } } }
function Get-NetTCPConnection {
    param([string] $State)
    foreach ($s in All-Of (Machine).sockets | Where-Object { $_.protocol -eq 'tcp' }) {
        [pscustomobject] @{ LocalAddress = $s.address; LocalPort = $s.port; OwningProcess = $s.process }
    }
}
function Get-NetUDPEndpoint {
    foreach ($s in All-Of (Machine).sockets | Where-Object { $_.protocol -eq 'udp' }) {
        [pscustomobject] @{ LocalAddress = $s.address; LocalPort = $s.port; OwningProcess = $s.process }
    }
}
if ($null -ne (Machine).teams) {
    function Get-NetLbfoTeam {
        foreach ($t in All-Of (Machine).teams) { [pscustomobject] @{ Name = $t.name; Members = $t.members; TeamNics = $t.interfaces } }
    }
}
if ($null -ne (Machine).switches) {
    function Get-VMSwitch {
        foreach ($s in All-Of (Machine).switches) {
            [pscustomobject] @{ Name = $s.name; SwitchType = $s.kind; NetAdapterInterfaceDescription = @($s.adapters)[0]; NetAdapterInterfaceDescriptions = $s.adapters }
        }
    }
}
$asked = 'state'
Export-ModuleMember -Function *
