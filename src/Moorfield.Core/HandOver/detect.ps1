# Looks whether this computer is as planned, and changes nothing but the log. Written by Moorfield; plan.txt says what is planned.
# Exit codes: 0 as planned, 1 it drifted (the line names the gravest first), 2 that could not be told.
# Moorfield runs this script in its tests against a made-up machine. It was never run on Windows by its makers.

# ---- Data ----------------------------------------------------------------------------------------------------------
##DATA##
$Kind = 'detect'
##COMMON##
$Look = Get-Look
$Notes = ''
if ($Told.Count -gt 0) { $Notes = ' Told: ' + (Join-Texts (Get-Ordered $Told) 5) + '.' }
if ($Look.Drift.Count -gt 0) {
    Write-Last ('drift: ' + (Join-Texts $Look.Drift 12) + '.' + $Notes)
    exit 1
}
if ($Unknown.Count -gt 0) {
    Write-Last ('could not tell: not known is ' + (Join-Texts (Get-Ordered $Unknown) 5) + '.' + $Notes)
    exit 2
}
Write-Last ('as planned.' + $Notes)
exit 0
