# Stands for the commands of Windows that have to do with tasks, bindings, the registry and the console's programs; the
# machine is served as for changing.psm1, whose Ask it uses.
# As in changing.psm1: of another module it would not see what its caller does on errors.
function Complain($what) { Write-Error -Message "$what" -Category $(if ("$what" -like 'No m*') { 'ObjectNotFound' } else { 'InvalidOperation' }) }
function Given($bound, [string] $name) { if ($bound.ContainsKey($name)) { return $bound[$name] } return $null }

# --- the scheduler ----------------------------------------------------------------------------
function New-ScheduledTaskAction { param([string] $Execute, [string] $Argument) [pscustomobject] @{ Execute = $Execute; Arguments = $Argument } }
function New-ScheduledTaskTrigger {
    param([switch] $AtStartup, [switch] $Once, [datetime] $At, [timespan] $RepetitionInterval)
    if ($AtStartup) { return [pscustomobject] @{ AtStartup = $true } }
    [pscustomobject] @{ AtStartup = $false; Every = $(if ($PSBoundParameters.ContainsKey('RepetitionInterval')) { $RepetitionInterval.TotalSeconds }) }
}
function New-ScheduledTaskSettingsSet {
    param(
        [switch] $AllowStartIfOnBatteries, [switch] $DontStopIfGoingOnBatteries, [switch] $StartWhenAvailable,
        [timespan] $ExecutionTimeLimit, [string] $MultipleInstances, [int] $Priority
    )
    $set = @{}
    if ($AllowStartIfOnBatteries) { $set.DisallowStartIfOnBatteries = $false }
    if ($DontStopIfGoingOnBatteries) { $set.StopIfGoingOnBatteries = $false }
    if ($StartWhenAvailable) { $set.StartWhenAvailable = $true }
    if ($PSBoundParameters.ContainsKey('ExecutionTimeLimit')) { $set.ExecutionTimeLimit = [System.Xml.XmlConvert]::ToString($ExecutionTimeLimit) }
    if ($PSBoundParameters.ContainsKey('Priority')) { $set.Priority = $Priority }
    if ($MultipleInstances) { $set.MultipleInstances = $MultipleInstances }
    [pscustomobject] $set
}
function New-ScheduledTaskPrincipal {
    param([string] $UserId, [string] $LogonType, [string] $RunLevel)
    [pscustomobject] @{ UserId = $UserId; LogonType = $LogonType; RunLevel = $RunLevel }
}
function Register-ScheduledTask {
    [CmdletBinding()]
    param([string] $TaskName, [string] $TaskPath = '\', $Action, $Trigger, $Settings, $Principal)
    try {
        $made = @{ TaskPath = $TaskPath; Actions = @($Action); Triggers = @($Trigger); Settings = $Settings; Principal = $Principal; State = 'Ready' }
        Ask 'register_task' @{ name = $TaskName; task = $made } | Out-Null
    } catch { Complain $_ }
}
function Get-ScheduledTask { [CmdletBinding()] param([string] $TaskName, [string] $TaskPath = '\') try { Ask 'get_task' @{ name = $TaskName; path = $TaskPath } } catch { Complain $_ } }
# It says nothing where nothing starts.
function Start-ScheduledTask { [CmdletBinding()] param([string] $TaskName, [string] $TaskPath = '\') try { Ask 'start_task' @{ name = $TaskName; path = $TaskPath } | Out-Null } catch { Complain $_ } }
function Stop-ScheduledTask { [CmdletBinding()] param([string] $TaskName, [string] $TaskPath = '\') Ask 'stop_task' @{ name = $TaskName } | Out-Null }
function Export-ScheduledTask { [CmdletBinding()] param([string] $TaskName, [string] $TaskPath = '\') try { Ask 'export_task' @{ name = $TaskName; path = $TaskPath } } catch { Complain $_ } }
function Unregister-ScheduledTask {
    [CmdletBinding(SupportsShouldProcess, ConfirmImpact = 'High')]
    param([string] $TaskName, [string] $TaskPath = '\')
    if (-not $PSCmdlet.ShouldProcess($TaskName)) { return }
    try { Ask 'unregister_task' @{ name = $TaskName; path = $TaskPath } | Out-Null } catch { Complain $_ }
}

# --- bindings, adapters, pings -------------------------------------------------------------------
function Bind($binding, [bool] $speaks) {
    try { Ask 'set_binding' @{ index = $binding.Index; version = $(if ($binding.ComponentID -eq 'ms_tcpip6') { 6 } else { 4 }); speaks = $speaks } | Out-Null }
    catch { Complain $_ }
}
function Enable-NetAdapterBinding { [CmdletBinding()] param([Parameter(ValueFromPipeline)] $InputObject) process { Bind $InputObject $true } }
function Disable-NetAdapterBinding { [CmdletBinding()] param([Parameter(ValueFromPipeline)] $InputObject) process { Bind $InputObject $false } }
function Restart-NetAdapter {
    [CmdletBinding()]
    param([Parameter(ValueFromPipeline)] $InputObject)
    process { try { Ask 'restart_adapter' @{ index = $InputObject.ifIndex } | Out-Null } catch { Complain $_ } }
}
function Test-Connection { [CmdletBinding()] param([string] $ComputerName, [int] $Count, [switch] $Quiet) return [bool] (Ask 'ping' @{ address = $ComputerName }) }

# --- the registry, and programs of the console -----------------------------------------------------
function Of-Machine([string] $path) { return $path -replace '^HKLM:\\', '' }
function New-Item { [CmdletBinding()] param([string] $Path, [switch] $Force) try { Ask 'new_key' @{ key = Of-Machine $Path } | Out-Null } catch { Complain $_ } }
function Set-ItemProperty {
    [CmdletBinding()]
    param([string] $LiteralPath, [string] $Name, $Value, [string] $Type)
    try { Ask 'set_value' @{ key = Of-Machine $LiteralPath; name = $Name; value = $(if ($Type -eq 'String') { $Value } else { , @($Value) }) } | Out-Null } catch { Complain $_ }
}
function Remove-ItemProperty {
    [CmdletBinding()]
    param([string] $LiteralPath, [string] $Name)
    try { Ask 'remove_value' @{ key = Of-Machine $LiteralPath; name = $Name } | Out-Null } catch { Complain $_ }
}
function Remove-Item {
    [CmdletBinding()]
    param([Parameter(Position = 0)] [string] $LiteralPath, [switch] $Recurse)
    # A file is none of the registry.
    if ($LiteralPath -notlike 'HKLM:*') { Microsoft.PowerShell.Management\Remove-Item -LiteralPath $LiteralPath; return }
    try { Ask 'remove_key' @{ key = Of-Machine $LiteralPath } | Out-Null } catch { Complain $_ }
}
function icacls.exe {
    $answer = Ask 'icacls' @{ words = @($args) }
    $global:LASTEXITCODE = $answer.status
    $answer.said
}
function Get-Acl { [CmdletBinding()] param([string] $LiteralPath) try { Ask 'get_acl' @{ path = $LiteralPath } } catch { Complain $_ } }
function reg.exe {
    $words = @($args)
    $values = (Ask 'state').registry.PSObject.Properties[($words[1] -replace '^HKLM\\', '')]
    if ($null -eq $values) { $global:LASTEXITCODE = 1; return 'ERROR: The system was unable to find the specified registry key or value.' }
    $lines = @('Windows Registry Editor Version 5.00', '', "[$($words[1])]") + @($values.Value.PSObject.Properties | ForEach-Object { "`"$($_.Name)`"=`"$($_.Value)`"" })
    [IO.File]::WriteAllLines($words[2], $lines, [Text.Encoding]::Unicode)
    $global:LASTEXITCODE = 0
    'The operation completed successfully.'
}
Export-ModuleMember -Function *
