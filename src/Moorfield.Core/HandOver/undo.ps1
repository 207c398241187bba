# Takes back what remediate.ps1 of the same hand-over did on this computer, by the record that it left here: its own blocks and guards at once;
# packages whose files are still there at the next sign-in of those who had them; the rest it lists by name, to be fetched again.
# After that the pair does nothing here until a new plan comes. Written by Moorfield.
# Exit codes: 0 done or nothing to do, 3 done in part (the line says what is left), 4 done but for what waits for a sign-in, 5 refused: nothing
# was changed.
# Moorfield runs this script in its tests against a made-up machine. It was never run on Windows by its makers.

param([switch]$AtSignIn, [string]$Account)

# ---- Data ----------------------------------------------------------------------------------------------------------
##DATA##
$ScriptName = 'undo'
$Passed = $(if ($AtSignIn) { ' -AtSignIn' }) + $(if ($Account) { ' -Account ' + $Account })
$Preview = [bool]$Account
##COMMON##
# In an account's own session, by its own task: what it had is registered from the files that are still there.
if ($Account) {
    foreach ($Entry in @(Get-List 'Back')) {
        $Parts = @($Entry -csplit '\|', 4)
        if ($Parts.Count -ne 4 -or $Parts[1] -cne $Account) { continue }
        try { Add-AppxPackage -Register -Path $Parts[2] -DisableDevelopmentMode } catch { continue }
    }
    exit 0
}
if (-not (Test-Administrator)) { Complete-Script 5 'refused: this needs an administrator or SYSTEM. Nothing was changed.' }
$HoldsRun = Open-Run
if (-not $HoldsRun) { Complete-Script 4 'waiting: another run is at work on this computer. Nothing was changed.' }
Close-Left
if (-not (Test-Path -LiteralPath $Record)) {
    $Code = $(if ($Failures.Count -gt 0) { 3 } else { 0 })
    Complete-Script $Code ('nothing to undo: this plan was not carried out here.' + (Get-Said ' Failed: ' $Failures 5))
}
if ($Undone -and @(Get-Marks).Count + @(Get-List 'Blocks').Count + @(Get-List 'Removed').Count + @(Get-List 'Back').Count -eq 0) {
    $Code = $(if ($Failures.Count -gt 0) { 3 } else { 0 })
    Complete-Script $Code ('nothing to undo: it was undone on ' + $Undone + '.' + (Get-Said ' Failed: ' $Failures 5))
}
if (-not $Undone) { Set-Value $Record 'Undone' 'String' ((Get-Now).Substring(0, 10)) }
foreach ($Name in @('remediate.ps1')) { Remove-Item -LiteralPath ($TaskFolder + '\' + $Name) -Force -ErrorAction SilentlyContinue }
Remove-Task 'sign-in'
foreach ($Who in $Profiles) { Remove-Task ('own-' + $Who.Sid) }
$Lifted = 0
$Lost = @()
foreach ($Family in @(Get-List 'Blocks' | Where-Object { Test-Family $_ })) {
    try {
        if (Test-Path -LiteralPath ($Store + '\Deprovisioned\' + $Family)) {
            Remove-Item -LiteralPath ($Store + '\Deprovisioned\' + $Family) -Recurse
            $Lifted += 1
        }
        Remove-Record 'Blocks' @($Family)
    }
    catch { Add-Failed ('the block of ' + $Family + ' could not be lifted: ' + (Get-CodeText @(Get-Codes $_)[0])) 40 }
}
foreach ($Mark in @(Get-Marks)) {
    if (-not (Restore-Guard $Mark) -and $Failures.Count -eq 0) { Add-Waiting 'guards of accounts that are signed out are lifted at their next sign-in' }
}

# What was removed: who had it gets it back when they sign in, while its files are there. What cannot be listed is looked at another time.
$Going = @(@(Get-List 'Removed') + @(Get-List 'Back') | ForEach-Object { @{ Family = $_.Split('|')[0]; Title = $_.Split('|')[0] } })
$Broken = @{}
$Packages = @(Get-Packages)
$Provisioned = @()
try { $Provisioned = @(Get-AppxProvisionedPackage -Online | ForEach-Object { ([string]$_.PackageName -creplace '_.*_', '_') }) }
catch { Add-Unknown 'which packages are provisioned' }
foreach ($Entry in @(Get-List 'Removed')) {
    $Parts = @($Entry -csplit '\|', 3)
    if ($Broken[$Parts[0]]) { continue }
    $Own = @($Packages | Where-Object { $_.Family -eq $Parts[0] -and -not $_.IsResource -and -not $_.IsBundle })
    $Manifest = @($Own | ForEach-Object { $_.Place + '\AppxManifest.xml' } | Where-Object { Test-Path -LiteralPath $_ })
    $Had = @($Parts[1].Split(' ') | Where-Object { $Sid = $_; $Sid -and @($Profiles | Where-Object { $_.Sid -ceq $Sid }).Count -gt 0 })
    $What = $(if ($Parts[1]) { $Parts[2] } else { $Parts[2] + ' for new accounts' })
    if ($Parts[1] -and $Manifest.Count -gt 0) { foreach ($Sid in $Had) { Add-Record 'Back' ($Parts[0] + '|' + $Sid + '|' + $Manifest[0] + '|' + $Parts[2]) } }
    elseif ($Lost -notcontains $What -and ($Parts[1] -or $Provisioned -notcontains $Parts[0])) { $Lost += $What }
    Remove-Record 'Removed' @($Entry)
}
foreach ($Entry in @(Get-List 'Back')) {
    $Parts = @($Entry -csplit '\|', 4)
    if (@($Packages | Where-Object { $_.Family -eq $Parts[0] -and $_.Users -contains $Parts[1] }).Count -gt 0) { Remove-Record 'Back' @($Entry); continue }
    # Its files may have gone meanwhile, with a removal that waited for a sign-in.
    if (-not (Test-Path -LiteralPath $Parts[2])) { Remove-Record 'Back' @($Entry); if ($Lost -notcontains $Parts[3]) { $Lost += $Parts[3] }; continue }
    $Name = @($Profiles | Where-Object { $_.Sid -ceq $Parts[1] } | ForEach-Object { $_.Name })
    Add-Waiting ($Parts[3] + ' comes back at the next sign-in of ' + ($Name -join ''))
    try { Add-Task ('back-' + $Parts[1]) $Parts[1] } catch { Add-Failed ('no task could be set up: ' + (Get-CodeText @(Get-Codes $_)[0])) 50 }
}
foreach ($Who in $Profiles) { if (@(Get-List 'Back' | Where-Object { $_.Split('|')[1] -ceq $Who.Sid }).Count -eq 0) { Remove-Task ('back-' + $Who.Sid) } }
# A task as SYSTEM looks after each sign-in, and goes with the last of what waits.
try {
    if ($Waiting.Count -gt 0) { Add-Task 'undo' '' }
    else { Remove-Task 'undo'; Remove-Item -LiteralPath $TaskFolder -Recurse -Force -ErrorAction SilentlyContinue }
}
catch { Add-Failed ('no task could be set up: ' + (Get-CodeText @(Get-Codes $_)[0])) 50 }
$Sum = (Get-Count $Lifted 'block') + ' and ' + (Get-Count $Freed 'guard') + ' lifted' +
    $(if ($Lost.Count -gt 0) { '; to be fetched again: ' + (Join-Texts $Lost 40) }) + '.'
$Code = 0
$Start = 'done: '
if ($Waiting.Count -gt 0) { $Code = 4; $Start = 'done but for what waits: ' }
if ($Lost.Count + $Unknown.Count -gt 0) { $Code = 3 }
if ($Failures.Count -gt 0) { $Code = 3; $Start = (Get-Said 'done in part: ' $Failures 10) + ' ' }
Complete-Script $Code ($Start + $Sum + (Get-Notes))
