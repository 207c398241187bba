# Looks whether this computer is as planned, and changes nothing but the log. Written by Moorfield; plan.txt says what is planned.
# Exit codes: 0 as planned (or undone by a person), 1 it drifted (the line names the gravest first), 2 that could not be told,
# 4 the rest waits for an account to sign in.
# Moorfield runs this script in its tests against a made-up machine. It was never run on Windows by its makers.

# ---- Data ----------------------------------------------------------------------------------------------------------
##DATA##
$ScriptName = 'detect'
$Passed = ''
$Preview = $false
##COMMON##
if ($Undone) {
    Complete-Script 0 ('undone by a person on ' + $Undone + '; nothing is done until a new plan comes (plan.txt says how to end that).')
    exit 0
}
Start-Plan
$Look = @{ Drift = @(); Leaving = @{} }
if ($Wanted) { $Look = Get-Look $false }
foreach ($Text in $Look.Leaving.Values) { Add-Waiting $Text }
$Code = 0
$Start = 'as planned.'
if ($Waiting.Count -gt 0) { $Code = 4; $Start = 'as planned but for what waits.' }
if ($Unknown.Count -gt 0) { $Code = 2; $Start = 'could not tell.' }
if ($Look.Drift.Count -gt 0) { $Code = 1; $Start = 'drift: ' + (Join-Texts $Look.Drift 12) + '.' }
Complete-Script $Code ($Start + (Get-Notes))
exit $Code
