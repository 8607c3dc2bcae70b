# The engine of Fixed Anchor for Windows: carries out one change on a machine, and rolls it back.
#   engine.ps1 VERB CHANGE-FOLDER [WORD [WORD]]
# It is the same for every change. What belongs to one change is data in its folder: change.json, bound by the digest in
# the file `digest`. What is kept there is state, saved/, deadline, decision and log. The rules everything relies on:
#   1. Only the guard moves the state, as change/states.py says. Everybody else leaves requests.
#   2. The state is on disk before the step that it names.
#   3. Nothing is changed before the guard has said that it is alive.
#   4. There is one decision: the file `decision`, made once, by whoever comes first.
#      It names what was decided (keep, roll-back) and why; it appears whole, so there is no half-made one.
#   5. The deadline counts the machine's own ticks; a clock that jumps changes nothing.
# Exit status: 0 done; 1 refused, nothing touched; 2 bad data; 3 was rolled back;
# 4 no permission; 5 stuck; 7 another change is open, or this one is decided; 8 another guard is alive.
# For Windows PowerShell 5.1 and PowerShell 7.
Set-StrictMode -Version 2.0
$ErrorActionPreference = 'Stop'
$ProgressPreference = 'SilentlyContinue'
$utf8 = New-Object -TypeName System.Text.UTF8Encoding -ArgumentList $false
$done = @{ status = 0; out = New-Object -TypeName System.Collections.ArrayList; err = '' }
$now = @{ failed = 'its state could not be recorded'; missed = 0; data = $null; held_over = $false; looked = 0; wrong_since = 0; ticks = 0; utc = $null; count = 0 }
$words = @($args)
function Word([int] $at) { if ($words.Count -gt $at) { return "$($words[$at])" } return '' }
$verb = Word 0
$dir = (Word 1).TrimEnd('/', '\')
$word = Word 2
$second = Word 3
$name, $root = '', ''
if ($dir -match '^([A-Za-z]:|/)') {
    # As the machine writes it: programs of the console take slashes for options.
    $dir = [System.IO.Path]::GetFullPath($dir)
    $name, $root = [System.IO.Path]::GetFileName($dir), [System.IO.Path]::GetDirectoryName($dir)
}
$task = "FixedAnchor change $name"

# --- what is said ---------------------------------------------------------------------------
function Tell([string] $text) { [void] $done.out.Add($text) }
# Ends the verb with a status, and a sentence for whoever asked.
function Fail([int] $status, [string] $text) {
    $problem = New-Object -TypeName System.InvalidOperationException -ArgumentList $text
    $problem.Data['status'] = $status
    throw $problem
}
function Refuse([int] $status, [string] $text) {
    Log "refused: $text"
    Fail $status $text
}
function Log([string] $text) {
    $line = [DateTime]::UtcNow.ToString('yyyy-MM-ddTHH:mm:ssZ', [System.Globalization.CultureInfo]::InvariantCulture) + " $text`n"
    $is_new = -not (Is-There 'log')
    # Another process may be writing its own line.
    for ($try = 0; $try -lt 20; $try++) {
        try { [System.IO.File]::AppendAllText("$dir/log", $line, $utf8); break } catch { Start-Sleep -Milliseconds 20 }
    }
    if ($is_new -and (Is-There 'log')) { Keep-To-Administrators "$dir/log" }
}
function Pause { $life.sign++; Start-Sleep -Milliseconds 200 }
# Seconds by the ticks of the machine, which no clock that is set moves.
function Ticks { return [System.Diagnostics.Stopwatch]::GetTimestamp() / [System.Diagnostics.Stopwatch]::Frequency }
function Number([string] $text) { return [double]::Parse($text, [System.Globalization.CultureInfo]::InvariantCulture) }
function Plain([double] $number) { return $number.ToString('0.###', [System.Globalization.CultureInfo]::InvariantCulture) }
# The value of a property that may not be there.
function Value($object, [string] $property) {
    if ($null -eq $object) { return $null }
    $found = $object.PSObject.Properties[$property]
    if ($null -eq $found) { return $null }
    return $found.Value
}
function Text($object, [string] $property) { return "$(Value $object $property)" }
function Texts($object, [string] $property) { return @(@(Value $object $property) | Where-Object { $null -ne $_ } | ForEach-Object { "$_" }) }

# --- files of our own -------------------------------------------------------------------------
function Is-There([string] $file) { return [System.IO.File]::Exists("$dir/$file") }
# What a file says; empty where there is none. Whoever writes it renames it into its place meanwhile.
function Kept([string] $file) {
    for ($try = 0; $try -lt 20; $try++) {
        if (-not (Is-There $file)) { return '' }
        try { return [System.IO.File]::ReadAllText("$dir/$file", $utf8).TrimEnd() } catch [System.IO.IOException] { Start-Sleep -Milliseconds 20 }
    }
    Fail 4 "$dir/$file cannot be read"
}
# Writes one of our files durably: beside, synced, renamed.
function Put([string] $file, [string] $text) {
    Write-New "$dir/$file.new" "$text`n"
    Rename-To "$dir/$file.new" "$dir/$file" $true
}
function Write-New([string] $path, [string] $text) {
    $bytes = $utf8.GetBytes($text)
    while ($true) {
        try {
            $file = [System.IO.File]::Open($path, 'Create', 'Write', 'None')
            try {
                $file.Write($bytes, 0, $bytes.Length)
                $file.Flush($true)
            } finally { $file.Dispose() }
            Keep-To-Administrators $path
            return
        } catch [System.IO.IOException] { if (-not (Give-Room)) { throw } }
    }
}
# On a disk that has filled up since the beginning, the room kept for this is given up; false where there is none left.
function Give-Room {
    if (-not (Is-There 'reserve')) { return $false }
    try { [System.IO.File]::Delete("$dir/reserve") } catch { return $false }
    return $true
}
function Remove([string] $path) { try { [System.IO.File]::Delete($path) } catch { Log "could not be removed: $path" } }
# Tries to be the one who makes a file, with its contents; false where it is there.
function Make-Once([string] $path, [string] $text) {
    $mine = "$path.$PID.$([System.Diagnostics.Stopwatch]::GetTimestamp())"
    Write-New $mine $text
    try {
        Rename-To $mine $path $false
        return $true
    } catch {
        Remove $mine
        if (-not [System.IO.File]::Exists($path)) { throw }
        return $false
    }
}
function Digest([string] $path) {
    $sum = [System.Security.Cryptography.SHA256]::Create().ComputeHash([System.IO.File]::ReadAllBytes($path))
    return (@($sum) | ForEach-Object { '{0:x2}' -f $_ }) -join ''
}
# The data of the change. It must be what was laid down.
function Change {
    if ($null -eq $now.data) {
        if (-not (Is-There 'change.json') -or -not (Is-There 'digest')) { Fail 2 "the data of change $name is not complete" }
        if ((Digest "$dir/change.json") -ne (Kept 'digest')) { Fail 2 "the data of change $name is not what was laid down: $dir/change.json was altered or cut short" }
        try { $now.data = ConvertFrom-Json -InputObject (Kept 'change.json') } catch { Fail 2 "the data of change $name cannot be read: $($_.Exception.Message)" }
        if ((Text $now.data 'form') -ne '1') { Fail 2 "the data of change $name is of form $(Text $now.data 'form'), which this engine does not know" }
    }
    return $now.data
}
function Listed([string] $key) { return @(@(Value (Change) $key) | Where-Object { $null -ne $_ }) }

# A rename is on the disk for certain when the volume was written out: before the next step, not some seconds later.
function Write-Through {
    if ($dir -notmatch '^([A-Za-z]):') { return }
    $drive = $Matches[1]
    if (-not (May-Call 'the disk is written out')) { return }
    try { Write-VolumeCache -DriveLetter $drive -ErrorAction Stop } catch { Log "the disk was not written out: $(("$($_.Exception.Message)" -split '[\r\n]+')[0])" }
    Came-Back
}

# --- state and decision -----------------------------------------------------------------------
function State { return Kept 'state' }
function Set-To([string] $state) {
    Put 'state' $state
    Write-Through
    Log "state: $state"
}
# The same where going on counts more than the record: on a disk that takes nothing a change is rolled back all the same.
function Try-Set-To([string] $state) { try { Set-To $state } catch { Log "the state $state could not be recorded" } }
function Is-Final([string] $state) { return @('confirmed', 'rolled-back', 'closed') -contains $state }
function Decided { return ((Kept 'decision') -split ': ', 2)[0] }
function Decided-Because { $made = Kept 'decision'; if ($made.Contains(': ')) { return ($made -split ': ', 2)[1] } return '' }
# The one decision: keep, or roll-back. Who comes second is told so.
function Claim([string] $what, [string] $who, [string] $why) {
    if (-not (Make-Once "$dir/decision" "${what}: $why`n")) { return $false }
    Write-Through
    Log "decision: $what, by $who"
    return $true
}
# The reason why a change ends as it does; the first one counts.
function Because([string] $why) {
    if (Is-There 'why') { return }
    try { Put 'why' $(if ($why) { $why } else { 'it never began' }) } catch { Log 'why could not be recorded' }
}
