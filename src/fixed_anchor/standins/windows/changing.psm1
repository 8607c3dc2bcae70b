# Stands for the commands of Windows by which network settings are changed. The machine is served at the Unix socket in
# $env:FIXED_ANCHOR_WINDOWS_SERVER (server.py). As module functions they do not see what a script prefers on errors, and
# those that ask for confirmation do so.
function Ask([string] $call, $arguments) {
    $at = New-Object -TypeName System.Net.Sockets.UnixDomainSocketEndPoint -ArgumentList $env:FIXED_ANCHOR_WINDOWS_SERVER
    $socket = New-Object -TypeName System.Net.Sockets.Socket -ArgumentList 'Unix', 'Stream', 'Unspecified'
    $socket.Connect($at)
    $stream = New-Object -TypeName System.Net.Sockets.NetworkStream -ArgumentList $socket, $true
    $json = ConvertTo-Json -Depth 6 -Compress -InputObject @{ call = $call; arguments = $arguments }
    $bytes = [Text.Encoding]::UTF8.GetBytes($json + "`n")
    $stream.Write($bytes, 0, $bytes.Length)
    $said = (New-Object -TypeName System.IO.StreamReader -ArgumentList $stream).ReadLine() | ConvertFrom-Json
    $stream.Close()
    # The process ends here, as it would in a power cut.
    if ($said.PSObject.Properties['dies']) { [Environment]::Exit(137) }
    if ($said.PSObject.Properties['error']) { throw $said.error }
    return $said.value
}
# As a command tells an error: what does not find its object says so by a category.
function Complain($what) { Write-Error -Message "$what" -Category $(if ("$what" -like 'No m*') { 'ObjectNotFound' } else { 'InvalidOperation' }) }
function Machine { return Ask 'state' }
function Given($bound, [string] $name) { if ($bound.ContainsKey($name)) { return $bound[$name] } return $null }
function Version([string] $family) { if (-not $family) { return $null } return $(if ($family -eq 'IPv6') { 6 } else { 4 }) }

function New-NetIPAddress {
    [CmdletBinding()]
    param([int] $InterfaceIndex, [string] $IPAddress, [int] $PrefixLength, [string] $DefaultGateway, [bool] $SkipAsSource, [string] $PolicyStore)
    try {
        Ask 'new_address' @{
            index = $InterfaceIndex; address = $IPAddress; prefix = $PrefixLength; gateway = Given $PSBoundParameters 'DefaultGateway'
            skip = $SkipAsSource; store = Given $PSBoundParameters 'PolicyStore'
        } | Out-Null
    } catch { Complain $_ }
}
function Set-NetIPAddress {
    [CmdletBinding()]
    param([int] $InterfaceIndex, [string] $IPAddress, [bool] $SkipAsSource, [int] $PrefixLength, [string] $PolicyStore)
    try {
        Ask 'set_address' @{
            index = $InterfaceIndex; address = $IPAddress; skip = Given $PSBoundParameters 'SkipAsSource'
            prefix = Given $PSBoundParameters 'PrefixLength'; store = Given $PSBoundParameters 'PolicyStore'
        } | Out-Null
    } catch { Complain $_ }
}
function Remove-NetIPAddress {
    [CmdletBinding(SupportsShouldProcess, ConfirmImpact = 'High')]
    param(
        [Parameter(ValueFromPipelineByPropertyName)] [int] $InterfaceIndex,
        [Parameter(ValueFromPipelineByPropertyName)] [string] $IPAddress,
        # What was got from one store is removed from that one alone.
        [Parameter(ValueFromPipelineByPropertyName)] [Alias('Store')] [string] $PolicyStore
    )
    process {
        if (-not $PSCmdlet.ShouldProcess($IPAddress)) { return }
        try {
            Ask 'remove_address' @{ index = $InterfaceIndex; address = $IPAddress; store = Given $PSBoundParameters 'PolicyStore' } | Out-Null
        } catch { Complain $_ }
    }
}
function New-NetRoute {
    [CmdletBinding()]
    param([int] $InterfaceIndex, [string] $DestinationPrefix, [string] $NextHop, [int] $RouteMetric = 256, [string] $PolicyStore)
    try {
        Ask 'new_route' @{
            index = $InterfaceIndex; destination = $DestinationPrefix; next_hop = $NextHop; metric = $RouteMetric
            store = Given $PSBoundParameters 'PolicyStore'
        } | Out-Null
    } catch { Complain $_ }
}
function Remove-NetRoute {
    [CmdletBinding(SupportsShouldProcess, ConfirmImpact = 'High')]
    param(
        [Parameter(ValueFromPipelineByPropertyName)] [int] $InterfaceIndex,
        [Parameter(ValueFromPipelineByPropertyName)] [string] $DestinationPrefix,
        [Parameter(ValueFromPipelineByPropertyName)] [string] $NextHop,
        [Parameter(ValueFromPipelineByPropertyName)] [Alias('Store')] [string] $PolicyStore
    )
    process {
        if (-not $PSCmdlet.ShouldProcess($DestinationPrefix)) { return }
        try {
            Ask 'remove_route' @{
                index = $InterfaceIndex; destination = $DestinationPrefix; next_hop = Given $PSBoundParameters 'NextHop'
                store = Given $PSBoundParameters 'PolicyStore'
            } | Out-Null
        } catch { Complain $_ }
    }
}
function Set-NetIPInterface {
    [CmdletBinding()]
    param([int] $InterfaceIndex, [string] $AddressFamily, [string] $Dhcp, [string] $RouterDiscovery, [string] $IgnoreDefaultRoutes, [int] $NlMtuBytes)
    try {
        Ask 'set_interface' @{
            index = $InterfaceIndex; version = Version $AddressFamily
            settings = @{
                dhcp = Given $PSBoundParameters 'Dhcp'; router_discovery = Given $PSBoundParameters 'RouterDiscovery'
                ignores_defaults = Given $PSBoundParameters 'IgnoreDefaultRoutes'; mtu = Given $PSBoundParameters 'NlMtuBytes'
            }
        } | Out-Null
    } catch { Complain $_ }
}
function Set-DnsClientServerAddress {
    [CmdletBinding()]
    param([int] $InterfaceIndex, [string[]] $ServerAddresses, [switch] $ResetServerAddresses)
    try { Ask 'set_resolvers' @{ index = $InterfaceIndex; servers = @(if (-not $ResetServerAddresses) { $ServerAddresses }) } | Out-Null }
    catch { Complain $_ }
}
function Set-DnsClient {
    [CmdletBinding()]
    param([int] $InterfaceIndex, [string] $ConnectionSpecificSuffix)
    try { Ask 'set_suffix' @{ index = $InterfaceIndex; suffix = $ConnectionSpecificSuffix } | Out-Null } catch { Complain $_ }
}
function Set-DnsClientGlobalSetting {
    [CmdletBinding()]
    param([string[]] $SuffixSearchList)
    try { Ask 'set_search' @{ domains = @($SuffixSearchList) } | Out-Null } catch { Complain $_ }
}
function Set-NetConnectionProfile {
    [CmdletBinding()]
    param([int] $InterfaceIndex, [string] $NetworkCategory)
    try { Ask 'set_category' @{ index = $InterfaceIndex; category = $NetworkCategory } | Out-Null } catch { Complain $_ }
}
function Invoke-CimMethod {
    [CmdletBinding()]
    param($InputObject, [string] $MethodName, [hashtable] $Arguments)
    try {
        # A scalar in the place of an array is a type mismatch.
        foreach ($name in $Arguments.Keys) {
            $wanted = if ($name -eq 'GatewayCostMetric') { [uint16[]] } elseif ($name -like 'WINS*') { [string] } else { [string[]] }
            if ($Arguments[$name] -isnot $wanted) { throw "Type mismatch for parameter `"$name`"" }
        }
        $value = switch ($MethodName) {
            'EnableStatic' { Ask 'enable_static' @{ index = $InputObject.InterfaceIndex; addresses = $Arguments.IPAddress; masks = $Arguments.SubnetMask } }
            'SetGateways' { Ask 'set_gateways' @{ index = $InputObject.InterfaceIndex; gateways = $Arguments.DefaultIPGateway; metrics = $Arguments.GatewayCostMetric } }
            'SetWINSServer' { Ask 'set_netbios' @{ index = $InputObject.InterfaceIndex; servers = @($Arguments.WINSPrimaryServer, $Arguments.WINSSecondaryServer) } }
            default { throw "Invalid method $MethodName" }
        }
        [pscustomobject] @{ ReturnValue = $value }
    } catch { Complain $_ }
}
function Register-DnsClient { [CmdletBinding()] param() Ask 'register' @{} | Out-Null }
function Rename-Computer {
    [CmdletBinding()]
    param([string] $NewName, [switch] $Force)
    try { Ask 'rename' @{ name = $NewName } | Out-Null } catch { Complain $_ }
}
Export-ModuleMember -Function *
