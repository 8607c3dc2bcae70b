
# Run as a file it prints and exits; given to a session it tells all of it as data.
Answer
if ("$($MyInvocation.MyCommand.CommandType)" -eq 'ExternalScript') {
    foreach ($line in $done.out) { [Console]::Out.WriteLine($line) }
    if ($done.err) { [Console]::Error.WriteLine($done.err) }
    exit $done.status
}
ConvertTo-Json -Compress -InputObject @{ status = $done.status; out = @($done.out) -join "`n"; err = $done.err }
