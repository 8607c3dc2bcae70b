
# --- waiting for what does not come at once --------------------------------------------------------
# Duplicate detection: no address of a connected adapter is used before it is over.
function Await-Detection {
    $until = (Ticks) + 20
    while ((Ticks) -lt $until) {
        $tentative = @(foreach ($guid in Guids) { if (Is-Up $guid) { Addresses (Index $guid) 'ActiveStore' | Where-Object { "$($_.AddressState)" -eq 'Tentative' } } })
        if ($tentative.Count -eq 0) { return }
        Pause
    }
}
# Waits until the lines are kept and in force; what is still missing, nothing where all is as wanted. Another machine
# that has an address is not waited for.
function Await-Settled([int] $seconds, $wanted, $leased, [bool] $back) {
    $until = (Ticks) + $seconds
    while ($true) {
        $missing = @(Differing @(Kept-Lines) $wanted) + @(Not-In-Force $wanted $leased)
        if ($back) { $missing += @(Left-In-Force) }
        if ($missing.Count -eq 0 -or (Ticks) -ge $until -or @($missing | Where-Object { $_ -like 'another *' }).Count) { return $missing }
        Pause
    }
}
# The category of an adapter's network; empty where there is none, or none yet.
function Category([string] $guid) {
    $index = Index $guid
    $found = Get-NetConnectionProfile -ErrorAction Stop | Where-Object { [int] $_.InterfaceIndex -eq $index } | Select-Object -First 1
    return Text $found 'NetworkCategory'
}
# How much the firewall lets in; where a category is not known that is nothing.
function Openness([string] $category) { return [array]::IndexOf(@('', 'Public', 'Private', 'DomainAuthenticated'), $category) }
# A network that is identified anew may become public, and then nobody comes in any more. It is set back; that of a
# domain comes by itself, or not. Tells what is worse than before; one that lets in more is none of it.
function Mend-Categories {
    $saved = Value (Saved) 'categories'
    foreach ($guid in Guids) {
        $before = Text $saved $guid
        if (-not $before -or -not (Is-Up $guid)) { continue }
        $here = Category $guid
        if ((Openness $here) -ge (Openness $before)) {
            if ($here -ne $before) { Tell-Once "the network profile of $(Named $guid) is $here now, and was $before" }
            continue
        }
        $shown = if ($here) { $here } else { 'not identified' }
        $failed = ''
        # Refused while it is being identified: then once more.
        if ($here -and $before -ne 'DomainAuthenticated') {
            try {
                Set-NetConnectionProfile -InterfaceIndex (Index $guid) -NetworkCategory $before -ErrorAction Stop
                Log "the network profile of $(Named $guid) was $here, and is set back to $before"
                # Whether it stays so is seen with the next look.
                "the network profile of $(Named $guid) was $here a moment ago"
                continue
            } catch { $failed = ", and cannot be set: $(("$($_.Exception.Message)" -split '[\r\n]+')[0])" }
        }
        "the network profile of $(Named $guid) is $shown, and was $before$failed"
    }
}
$told_once = New-Object -TypeName System.Collections.ArrayList
function Tell-Once([string] $text) { if (-not $told_once.Contains($text)) { [void] $told_once.Add($text); Log $text } }
# Waits until the categories are what they were, or better, and stay so: a network is identified some seconds after its
# address, and again. What is worse after so many seconds is told.
function Await-Category([int] $seconds) {
    $steady = [double] (Value (Change) 'category_steady')
    $until = (Ticks) + $seconds
    $since = Ticks
    while ($true) {
        $wrong = @(Mend-Categories)
        if ($wrong.Count) { $since = Ticks }
        elseif ((Ticks) - $since -ge $steady) { return }
        if ($wrong.Count -and (Ticks) -ge $until) { return $wrong }
        Pause
    }
}
# The same now and then while a change waits; why it cannot wait any longer, nothing where all is well.
function Watch-Category {
    if ((Ticks) - $now.looked -lt 2) { return '' }
    $now.looked = Ticks
    $wrong = @(Mend-Categories)
    if ($wrong.Count -eq 0) { $now.wrong_since = 0; return '' }
    if ($now.wrong_since -eq 0) { $now.wrong_since = Ticks; return '' }
    if ((Ticks) - $now.wrong_since -lt [int] (Value (Change) 'identification')) { return '' }
    return $wrong -join '; '
}
# Whether the machine's own disk comes over the network: then no adapter may be taken down. What cannot be told counts so.
function Boots-From-Network {
    try { return @(Get-Disk -ErrorAction Stop | Where-Object { ([bool] $_.IsBoot -or [bool] $_.IsSystem) -and "$($_.BusType)" -eq 'iSCSI' }).Count -gt 0 }
    catch { Log "where the system's disk is cannot be told: $(("$($_.Exception.Message)" -split '[\r\n]+')[0])"; return $true }
}
# Down and up again: the last resort where no server answers, or the carrier has not come back. A session over the
# adapter ends with it.
function Restart-Lost($guids, [string] $why) {
    if (@($guids).Count -and (Boots-From-Network)) { Log "no adapter is taken down, since the system's disk comes over the network: $why"; return }
    foreach ($guid in $guids) {
        Log "$(Named $guid) is taken down and up again: $why"
        if (-not (May-Call "$(Named $guid) is taken down and up again")) { Log "that failed: $(Not-Back)"; continue }
        try { Adapter $guid | Restart-NetAdapter -ErrorAction Stop } catch { Log "that failed: $($_.Exception.Message)" }
        Came-Back
    }
}
# The machine's records in DNS, by its addresses of now.
function Register {
    if (-not (May-Call 'its addresses are registered with DNS')) { Log "its addresses could not be registered with DNS: $(Not-Back)"; return }
    try {
        Register-DnsClient -ErrorAction Stop
        Log 'its addresses were registered with DNS'
    } catch { Log "its addresses could not be registered with DNS: $($_.Exception.Message)" }
    Came-Back
}
