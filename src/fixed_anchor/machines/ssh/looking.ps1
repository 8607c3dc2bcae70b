# What a Windows machine can see from itself, for a seat that asks: its neighbours, the first hop, name servers and other
# machines that it connects to. What is asked comes as JSON in the first argument; the answer is JSON. Nothing is changed.
$ProgressPreference = 'SilentlyContinue'
$ErrorActionPreference = 'Stop'
$asked = ConvertFrom-Json -InputObject $args[0]
$milliseconds = [int] ([double] $asked.seconds * 1000)

function Endpoint([string] $address, [int] $port) {
    return New-Object -TypeName System.Net.IPEndPoint -ArgumentList ([System.Net.IPAddress]::Parse($address)), $port
}
# A word for how a connection was not made.
function Word($failed) {
    $inner = $failed.Exception
    while ($null -ne $inner.InnerException) { $inner = $inner.InnerException }
    $code = if ($inner -is [System.Net.Sockets.SocketException]) { "$($inner.SocketErrorCode)" } else { '' }
    if ($code -eq 'ConnectionRefused') { return 'refuses' }
    if ($code -eq 'HostUnreachable' -or $code -eq 'NetworkUnreachable') { return 'unreachable' }
    return 'no answer'
}
function Connected([string] $address, [int] $port, [string] $source) {
    $to = Endpoint $address $port
    $client = New-Object -TypeName System.Net.Sockets.TcpClient -ArgumentList $to.AddressFamily
    if ($source) { $client.Client.Bind((Endpoint $source 0)) }
    $waiting = $client.BeginConnect($to.Address, $port, $null, $null)
    if (-not $waiting.AsyncWaitHandle.WaitOne($milliseconds)) {
        $client.Close()
        throw (New-Object -TypeName System.Net.Sockets.SocketException -ArgumentList 10060)
    }
    $client.EndConnect($waiting)
    $client.ReceiveTimeout = $milliseconds
    return $client
}
# Sends one datagram to each: then the machine has to find them, or to say that it does not.
function Provoke {
    foreach ($address in @($asked.addresses)) {
        try {
            $to = Endpoint $address 9
            $udp = New-Object -TypeName System.Net.Sockets.UdpClient -ArgumentList $to.AddressFamily
            [void] $udp.Send([byte[]] @(46), 1, $to)
            $udp.Close()
        } catch { continue }
    }
    return $true
}
function Neighbours {
    return @(Get-NetNeighbor -InterfaceIndex $asked.index -ErrorAction SilentlyContinue | ForEach-Object {
        @{ address = "$($_.IPAddress)"; mac = "$($_.LinkLayerAddress)"; state = "$($_.State)" }
    })
}
# Whether the machine has seen that somebody else has one of its own.
function States {
    return @(Get-NetIPAddress -IPAddress $asked.address -PolicyStore ActiveStore -ErrorAction SilentlyContinue | ForEach-Object { "$($_.AddressState)" })
}
function Hop {
    $ping = New-Object -TypeName System.Net.NetworkInformation.Ping
    $options = New-Object -TypeName System.Net.NetworkInformation.PingOptions -ArgumentList ([int] $asked.hops), $false
    $said = $ping.Send([System.Net.IPAddress]::Parse($asked.address), $milliseconds, [byte[]] @(97, 110, 99, 104, 111, 114, 46, 46), $options)
    return @{ status = "$($said.Status)"; from = "$($said.Address)" }
}
function Ask-Name-Server {
    $question = [Convert]::FromBase64String($asked.question)
    $answer = [byte[]] @()
    try {
        if ($asked.over_tcp) {
            $client = Connected $asked.address 53 ''
            $stream = $client.GetStream()
            $stream.Write($question, 0, $question.Length)
            $answer = Read-All $stream 2
            $length = 256 * $answer[0] + $answer[1]
            $answer = Read-All $stream $length
            $client.Close()
        } else {
            $to = Endpoint $asked.address 53
            $udp = New-Object -TypeName System.Net.Sockets.UdpClient -ArgumentList $to.AddressFamily
            $udp.Client.ReceiveTimeout = $milliseconds
            $udp.Connect($to)
            [void] $udp.Send($question, $question.Length)
            $from = Endpoint '0.0.0.0' 0
            $answer = $udp.Receive([ref] $from)
            $udp.Close()
        }
    } catch { $answer = [byte[]] @() }
    return [Convert]::ToBase64String($answer)
}
function Read-All($stream, [int] $count) {
    $data = New-Object -TypeName byte[] -ArgumentList $count
    $got = 0
    while ($got -lt $count) {
        $more = $stream.Read($data, $got, $count - $got)
        if ($more -le 0) { throw 'the answer was cut short' }
        $got += $more
    }
    return , $data
}
function Connect {
    try {
        $client = Connected $asked.address ([int] $asked.port) "$($asked.source)"
        $client.Close()
        return 'accepts'
    } catch { return Word $_ }
}
# The first line that a web server says to a HEAD request; over TLS whoever it is, since the way is what is asked for.
function Head {
    try { $client = Connected $asked.address ([int] $asked.port) "$($asked.source)" } catch { return Word $_ }
    try {
        $bytes = [Text.Encoding]::ASCII.GetBytes($asked.request)
        $stream = $client.GetStream()
        $stream.Write($bytes, 0, $bytes.Length)
        $reader = New-Object -TypeName System.IO.StreamReader -ArgumentList $stream
        return 'said ' + $reader.ReadLine()
    } catch { return 'said ' } finally { $client.Close() }
}

$answer = $null
switch ("$($asked.what)") {
    'provoke' { $answer = Provoke }
    # An empty list, and one of one, stay lists.
    'neighbours' { $answer = @(Neighbours) }
    'states' { $answer = @(States) }
    'hop' { $answer = Hop }
    'dns' { $answer = Ask-Name-Server }
    'connect' { $answer = Connect }
    'head' { $answer = Head }
}
ConvertTo-Json -Depth 4 -Compress -InputObject @{ answer = $answer }
