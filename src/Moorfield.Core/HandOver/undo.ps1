# Takes back what remediate.ps1 of the same hand-over did on this computer: its own blocks and guards, and the packages whose files are still
# there, for whoever runs it. The rest it lists by name: it has to be fetched again. Written by Moorfield.
# Exit codes: 0 done or nothing to do, 1 failed, 3 done in part (the line says what is left), 5 refused: nothing was changed.
# Moorfield runs this script in its tests against a made-up machine. It was never run on Windows by its makers.

# ---- Data ----------------------------------------------------------------------------------------------------------
##DATA##
$Kind = 'undo'
##COMMON##
$Failures = @{}
$Lifted = 0
$Freed = 0
$Back = @()
$Lost = @()
if (-not (Test-Administrator)) {
    Write-Last 'refused: this needs an administrator or SYSTEM. Nothing was changed.'
    exit 5
}
if (-not (Test-Path -LiteralPath $Record)) {
    Write-Last 'nothing to undo: this plan was not carried out here.'
    exit 0
}

# Only what both the plan and the record name.
foreach ($Family in @(Get-Value $Record 'Blocks' | Where-Object { $_ -and $Blocked -contains $_ -and (Test-Family $_) })) {
    try {
        if (Test-Path -LiteralPath ($Store + '\Deprovisioned\' + $Family)) {
            Remove-Item -LiteralPath ($Store + '\Deprovisioned\' + $Family) -Recurse
            $Lifted += 1
        }
    }
    catch { $Failures['the block of ' + $Family + ' could not be lifted: ' + (Get-CodeText (Get-Code $_))] = $Failures.Count + 1 }
}
$Marks = @(Get-Value $Record 'Guards' | Where-Object { $_ })
foreach ($Guard in $Wanted.Guards) {
    $Places = $(if ($Guard.Hive -ceq 'Machine') { @(@{ Place = 'Machine'; Who = $null }) } else {
        @($Profiles | ForEach-Object { @{ Place = $_.Sid; Who = $_ } }) +
            @(@{ Place = 'Default'; Who = @{ Sid = ''; Folder = 'C:\Users\Default'; Name = 'new accounts' } })
    })
    foreach ($At in $Places) {
        $Start = $At.Place + '|' + $Guard.Key + '|' + $Guard.Name
        $Mark = @($Marks | Where-Object { $_ -ceq $Start -or ([string]$_).StartsWith($Start + '|') })
        if ($Mark.Count -eq 0) { continue }
        $Root = $(if ($At.Who) { Open-Hive $At.Who } else { $MachineRoot })
        if (-not $Root) { $Failures['the guard ' + $Guard.Name + ' could not be lifted for ' + $At.Who.Name] = $Failures.Count + 1; continue }
        try {
            # What somebody else set since then stays.
            if (Test-Guard $Root $Guard) {
                $Was = ([string]$Mark[0]).Substring($Start.Length)
                $Shown = $(if ($Guard.Name) { $Guard.Name } else { '(default)' })
                if ($Was.StartsWith('|DWord|')) { Set-Value ($Root + $Guard.Key) $Guard.Name 'DWord' ([int]$Was.Substring(7)) }
                elseif ($Was.StartsWith('|Other|')) {
                    Add-Told ('the guard ' + $Guard.Name + ' stays: what was there before was not a text or a number')
                    $Freed -= 1
                }
                elseif ($Was.StartsWith('|String|')) { Set-Value ($Root + $Guard.Key) $Guard.Name 'String' $Was.Substring(8) }
                else { Remove-ItemProperty -LiteralPath ($Root + $Guard.Key) -Name $Shown }
                $Freed += 1
            }
        }
        catch { $Failures['the guard ' + $Guard.Name + ' could not be lifted: ' + (Get-CodeText (Get-Code $_))] = $Failures.Count + 1 }
        Close-Hive $Root
    }
}
$Packages = @(Get-Packages)
foreach ($Family in @(Get-Value $Record 'Removed' | Where-Object { $_ -and (Test-Family $_) })) {
    $Item = @($Wanted.Remove | Where-Object { $_.Family -ceq $Family })
    if ($Item.Count -eq 0) { continue }
    $Own = @($Packages | Where-Object { $_.Family -eq $Family -and -not $_.IsResource -and -not $_.IsBundle -and $_.Place })
    $Staged = @($Own | Where-Object { Test-Path -LiteralPath ($_.Place + '\AppxManifest.xml') })
    if ($Staged.Count -eq 0) { $Lost += $Item[0].Title; continue }
    try {
        Add-AppxPackage -Register -Path ($Staged[0].Place + '\AppxManifest.xml') -DisableDevelopmentMode
        $Back += $Item[0].Title
    }
    catch {
        Write-Log ($Item[0].Title + ': ' + $_.Exception.Message)
        $Lost += $Item[0].Title
    }
}
if ($Failures.Count -eq 0) { Remove-Item -LiteralPath $Record -Recurse }
$Sum = (Get-Count $Lifted 'block') + ' and ' + (Get-Count $Freed 'guard') + ' lifted' +
    $(if ($Back.Count -gt 0) { '; given back to whoever ran this: ' + (Join-Texts $Back 20) } else { '' }) +
    $(if ($Lost.Count -gt 0) { '; to be fetched again: ' + (Join-Texts $Lost 40) } else { '' })
if ($Told.Count -gt 0) { $Sum += '. Told: ' + (Join-Texts (Get-Ordered $Told) 5) }
if ($Failures.Count -gt 0) {
    Write-Last ('done in part: ' + (Join-Texts (Get-Ordered $Failures) 10) + '. ' + $Sum + '.')
    exit 3
}
Write-Last ('done: ' + $Sum + '.')
exit $(if ($Lost.Count -gt 0) { 3 } else { 0 })
