
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
function Await-Settled([int] $seconds, $wanted, $leased) {
    $until = (Ticks) + $seconds
    while ($true) {
        $missing = @(Differing @(Kept-Lines) $wanted) + @(Not-In-Force $wanted $leased)
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
# A network that is identified anew may become public, and then nobody comes in any more. It is set back; that of a
# domain comes by itself, or not. Tells what could not be had back.
function Await-Category([int] $seconds) {
    $until = (Ticks) + $seconds
    $saved = Value (Saved) 'categories'
    while ($true) {
        $wrong = @()
        foreach ($guid in Guids) {
            $before = Text $saved $guid
            if (-not $before -or -not (Is-Up $guid)) { continue }
            $here = Category $guid
            if ($here -eq $before) { continue }
            $shown = if ($here) { $here } else { 'not identified' }
            $wrong += "the network of $(Named $guid) is $shown, and was $before"
            # Refused while it is being identified: then once more.
            if ($here -and $before -ne 'DomainAuthenticated') {
                try {
                    Set-NetConnectionProfile -InterfaceIndex (Index $guid) -NetworkCategory $before -ErrorAction Stop
                    Log "the network of $(Named $guid) was $here, and is set back to $before"
                } catch { $wrong += "it could not be set: $(("$($_.Exception.Message)" -split '[\r\n]+')[0])" }
            }
        }
        if ($wrong.Count -eq 0 -or (Ticks) -ge $until) { return $wrong }
        Pause
    }
}
# Down and up again: the last resort where no server answers. A session over the adapter ends with it.
function Restart-All([string] $why) {
    foreach ($guid in Guids) {
        if (-not (Is-Up $guid)) { continue }
        Log "$(Named $guid) is taken down and up again: $why"
        try { Adapter $guid | Restart-NetAdapter -ErrorAction Stop } catch { Log "that failed: $($_.Exception.Message)" }
    }
}
# The machine's records in DNS, by its addresses of now.
function Register {
    try {
        Register-DnsClient -ErrorAction Stop
        Log 'its addresses were registered with DNS'
    } catch { Log "its addresses could not be registered with DNS: $($_.Exception.Message)" }
}
