# What a Windows machine runs for a seat that reached it over SSH: reads programs, one in each line, and tells what they say.
#
# It arrives as one -EncodedCommand, since standard input is not read as a script there. A line is a program and its
# arguments, each in base64 of UTF-8; the third program that came can be called again as =3. The answer is base64 of UTF-8
# between two marked lines, whatever the code page of the console is.
$ProgressPreference = 'SilentlyContinue'
$mode = "$($ExecutionContext.SessionState.LanguageMode)"
if ($mode -ne 'FullLanguage') {
    # Here no method can be called, and no program made of text.
    '@MARK@ restricted'
    ConvertTo-Json -Compress -InputObject @{ fixed_anchor_windows = 1; language_mode = $mode }
    exit 0
}
[Console]::Out.WriteLine("@MARK@ hello $env:SSH_CONNECTION")
$known = @{}
$in = [IO.StreamReader]::new([Console]::OpenStandardInput())
while ($true) {
    # sshd keeps the connection of a seat that is gone for hours: after five minutes without a word this ends.
    $next = $in.ReadLineAsync()
    if (-not $next.Wait(300000)) { break }
    $line = $next.Result
    if ($null -eq $line) { break }
    $status = 0
    try {
        $first, $rest = $line -split ' '
        $texts = @($rest | Where-Object { $null -ne $_ } | ForEach-Object { [Text.Encoding]::UTF8.GetString([Convert]::FromBase64String($_)) })
        if (-not $known.ContainsKey($first)) {
            $known["=$($known.Count + 1)"] = [scriptblock]::Create([Text.Encoding]::UTF8.GetString([Convert]::FromBase64String($first)))
            $first = "=$($known.Count)"
        }
        $program = $known[$first]
        $said = @(& $program @texts) -join "`n"
    } catch {
        $status = 1
        $said = "$($_.Exception.Message)"
    }
    $data = [Convert]::ToBase64String([Text.Encoding]::UTF8.GetBytes($said))
    [Console]::Out.WriteLine("@MARK@ reply $status")
    [Console]::Out.WriteLine($data)
    [Console]::Out.WriteLine("@MARK@ end")
}
