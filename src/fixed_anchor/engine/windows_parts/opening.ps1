# A runbook of Fixed Anchor for Windows: one change of one machine, carried in one file. What it takes stands below, at
# "the runbook". A file that was cut short begins nothing.
if ([System.IO.File]::ReadAllText($PSCommandPath).TrimEnd() -notmatch '\n#END [0-9a-f]{64}$') {
    [Console]::Error.WriteLine("$([System.IO.Path]::GetFileName($PSCommandPath)) is cut short: carry it again")
    exit 2
}
