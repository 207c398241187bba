# Looks whether this computer is as planned, and changes nothing: it writes its log, its result beside it, and an event. Written by Moorfield; plan.txt says what is planned.
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
    $Code = $(if (@(Get-Left).Count -gt 0) { 1 } else { 0 })
    Complete-Script $Code ('undone by a person on ' + $Undone + '; nothing is done until a new plan comes (plan.txt says how to end that).')
}
Start-Plan
$Look = @{ Drift = @(); Leaving = @{} }
if ($Wanted) { $Look = Get-Look $false; Add-Strangers $Look.Apps }
foreach ($Text in $Look.Leaving.Values) { Add-Waiting $Text }
foreach ($Root in @(Get-Left)) { $Look.Drift += 'the registry ' + ([string]$Root -creplace '^.*\\', '') + ' is still mounted' }
$Code = 0
$Start = 'as planned.'
if ($Waiting.Count -gt 0) { $Code = 4; $Start = 'as planned but for what waits.' }
if ($Unknown.Count -gt 0) { $Code = 2; $Start = 'could not tell.' }
if ($Look.Drift.Count -gt 0) { $Code = 1; $Start = 'drift: ' + (Join-Texts $Look.Drift 12) + '.' }
Complete-Script $Code ($Start + (Get-Notes))
