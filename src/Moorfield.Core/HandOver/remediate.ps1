# Brings this computer to what is planned. Written by Moorfield; plan.txt says what is planned, and undo.ps1 takes back what can be.
# Run it as administrator or as SYSTEM, in Windows' own shell (5.1). It asks nothing. A second run does nothing.
# Exit codes: 0 done or nothing to do, 1 failed, 3 done in part (the line says what not), 5 refused: nothing was changed.
# Moorfield runs this script in its tests against a made-up machine. It was never run on Windows by its makers.

# ---- Data ----------------------------------------------------------------------------------------------------------
##DATA##
$Kind = 'remediate'
##COMMON##
$Deadline = [datetime]::UtcNow.AddMinutes($Minutes)
$Failures = @{}
$Done = @{ Packages = 0; Provisioned = 0; Blocks = 0; Guards = 0; Programs = 0 }
$Again = @()

function Test-Time() {
    if ([datetime]::UtcNow -lt $Deadline) { return $true }
    $Failures['the time limit of ' + [string]$Minutes + ' minutes was reached'] = 1
    $false
}

# What a failure means for an item. Gives whether it should be tried again.
function Add-Failure($Failure, $Item, [bool]$IsLast) {
    $Title = $Item.Title
    $Code = Get-Code $Failure
    Write-Log ($Title + ': ' + $Code + ' ' + $Failure.Exception.Message)
    if ($GoneCodes -contains $Code) { return $false }
    if ($LastingCodes -contains $Code) {
        Add-Told ($Title + ': ' + (Get-CodeText $Code))
        $Lasting[$Title] = $true
        Add-Record 'Lasting' $Item.Family
        return $false
    }
    if (-not $IsLast -and $PassingCodes -contains $Code) { return $true }
    $Failures[$Title + ' could not be removed: ' + (Get-CodeText $Code)] = $Failures.Count + 10
    $false
}

# A restore point of the system, as far as it makes one. Gives what came of it; '' when it must not go on.
function New-RestorePoint() {
    if ($RestorePoint -ceq 'none') { return 'none, as planned' }
    if ([string](Get-Value 'Registry::HKEY_LOCAL_MACHINE\SYSTEM\CurrentControlSet\Control\ProductOptions' 'ProductType') -ne 'WinNT') {
        return 'none: servers have none'
    }
    $Before = @(Get-RestoreNumbers)
    $Why = 'the system made none'
    try { Checkpoint-Computer -Description 'Before Moorfield' -RestorePointType 'APPLICATION_UNINSTALL' }
    catch { $Why = 'system protection is off or failed' }
    $After = @(Get-RestoreNumbers)
    if ($After.Count -gt 0 -and ($Before.Count -eq 0 -or $After[0].Number -gt $Before[0].Number)) { return 'made' }
    if ($After.Count -gt 0) { return 'an earlier one, ' + $After[0].Age }
    'none: ' + $Why
}

# Number and age of the restore points that there are, the last first.
function Get-RestoreNumbers() {
    try {
        @(Get-ComputerRestorePoint | Sort-Object -Property SequenceNumber -Descending | ForEach-Object {
            $Age = 'of an age that is not known'
            if ([string]$_.CreationTime -cmatch '^\d{14}') {
                $Made = [datetime]::ParseExact(([string]$_.CreationTime).Substring(0, 14), 'yyyyMMddHHmmss', [cultureinfo]::InvariantCulture)
                $Hours = [int][long](([datetime]::UtcNow - $Made).TotalHours)
                $Age = $(if ($Hours -ge 48) { Get-Count ([int](($Hours - $Hours % 24) / 24)) 'day' } else { Get-Count $Hours 'hour' }) + ' old'
            }
            @{ Number = [long]$_.SequenceNumber; Age = $Age }
        })
    }
    catch { return }
}

# Takes a package from those who have it and are meant. Gives whether it should be tried again.
function Remove-Registered($Entry, $Package, [bool]$IsLast) {
    $Title = $Entry.Item.Title
    $Everyone = $All -and $Wanted.Newcomers
    if ($Everyone -and $RemovesForAll) {
        try { Remove-AppxPackage -Package $Package.FullName -AllUsers }
        catch { return Add-Failure $_ $Entry.Item $IsLast }
        return $false
    }
    $Retry = $false
    foreach ($Sid in @($Entry.Sids | Where-Object { $Package.Users -contains $_ })) {
        if (-not $RemovesForUser) {
            $Failures[$Title + ' could not be removed: this build of Windows cannot take it from one account'] = $Failures.Count + 10
            return $false
        }
        try { Remove-AppxPackage -Package $Package.FullName -User $Sid }
        catch { if (Add-Failure $_ $Entry.Item $IsLast) { $Retry = $true } }
    }
    $Retry
}

function Set-Guard($Entry) {
    $Guard = $Entry.Guard
    $Whose = $(if ($Entry.Who) { $Entry.Who.Name } else { 'the machine' })
    if (-not (Test-KeyPath $Guard.Key)) { $Failures['the guard ' + $Guard.Name + ' has a key that is refused'] = 50; return }
    $Root = $(if ($Entry.Who) { Open-Hive $Entry.Who } else { $MachineRoot })
    if (-not $Root) { $Failures['the guard ' + $Guard.Name + ' could not be set for ' + $Whose] = $Failures.Count + 50; return }
    try {
        $Place = $(if ($Entry.Who) { if ($Entry.Who.Sid) { $Entry.Who.Sid } else { 'Default' } } else { 'Machine' })
        $Before = Get-Value ($Root + $Guard.Key) $Guard.Name
        # What was there before, so that undo can bring it back; texts and numbers only.
        $Mark = $Place + '|' + $Guard.Key + '|' + $Guard.Name
        $Was = ''
        if ($Before -is [int] -or $Before -is [uint32]) { $Was = '|DWord|' + [string]$Before }
        elseif ($Before -is [string]) { $Was = '|String|' + $Before }
        elseif ($null -ne $Before) { $Was = '|Other|' }
        $Known = @(Get-Value $Record 'Guards' | Where-Object { $_ -and ([string]$_).StartsWith($Mark + '|') -or $_ -ceq $Mark })
        if ($Known.Count -eq 0) { Add-Record 'Guards' ($Mark + $Was) }
        Add-Key ($Root + $Guard.Key)
        $Data = $Guard.Data
        if ($Guard.Kind -ceq 'MultiString') { $Data = [string[]]@($Guard.Data) }
        # Numbers of 32 bits have a sign here.
        if ($Guard.Kind -ceq 'DWord' -and [long]$Data -gt 2147483647) { $Data = [int]([long]$Data - 4294967296) }
        Set-Value ($Root + $Guard.Key) $Guard.Name $Guard.Kind $Data
        $Done.Guards += 1
    }
    catch { $Failures['the guard ' + $Guard.Name + ' could not be set for ' + $Whose + ': ' + (Get-CodeText (Get-Code $_))] = $Failures.Count + 50 }
    Close-Hive $Root
}

# Runs the silent removal that a program registered for itself, looked up here and now in the machine's own list.
function Remove-Classic($Program) {
    $Command = [string](Get-Value ($MachineRoot + $Program.Key) 'QuietUninstallString')
    $Match = [regex]::Match($Command, '^\s*(?:"([^"]+)"|([^\s"]+))\s*(.*)$')
    $File = $Match.Groups[1].Value + $Match.Groups[2].Value
    if ($File -match '^msiexec(\.exe)?$') { $File = $env:SystemRoot + '\System32\msiexec.exe' }
    # Only from folders that ordinary users cannot write.
    $IsSafe = $File -match '^[A-Z]:\\(Program Files|Program Files \(x86\)|Windows)\\' -and $File -notmatch '\\\.\.?(\\|$)|\\Windows\\Temp\\|["%]'
    if (-not $IsSafe) {
        $Failures[$Program.Title + ' could not be removed: its command is not in a folder that only administrators write'] = $Failures.Count + 30
        return
    }
    try {
        Write-Log ($Program.Title + ': ' + $Command)
        if ($Match.Groups[3].Value) { $Process = Start-Process -FilePath $File -ArgumentList $Match.Groups[3].Value -PassThru -WindowStyle Hidden }
        else { $Process = Start-Process -FilePath $File -PassThru -WindowStyle Hidden }
        $null = $Process.Handle
        $Process | Wait-Process -Timeout $ClassicSeconds -ErrorAction SilentlyContinue
        if (-not $Process.HasExited) {
            Stop-Process -Id $Process.Id -Force -ErrorAction SilentlyContinue
            $Failures[$Program.Title + ' could not be removed: its own removal did not end in time'] = $Failures.Count + 30
        }
        elseif (@(0, 1641, 3010) -notcontains $Process.ExitCode) {
            $Failures[$Program.Title + ' could not be removed: its own removal ended with ' + [string]$Process.ExitCode] = $Failures.Count + 30
        }
        else {
            $Done.Programs += 1
            if ($Process.ExitCode -ne 0) { Add-Told ($Program.Title + ' wants the computer to be started again') }
        }
    }
    catch { $Failures[$Program.Title + ' could not be removed: its own removal could not be started'] = $Failures.Count + 30 }
}

# ---- Look ----

if (-not (Test-Administrator)) {
    Write-Last 'refused: this needs an administrator or SYSTEM. Nothing was changed.'
    exit 5
}
$Lasting = @{}
$Look = Get-Look
if ($Look.Failed) {
    Write-Last ('failed: not known is ' + (Join-Texts (Get-Ordered $Unknown) 5) + '. Nothing was changed.')
    exit 1
}
if ($Look.Drift.Count -eq 0) {
    $Notes = ''
    if ($Unknown.Count -gt 0) { $Notes = ' Not known: ' + (Join-Texts (Get-Ordered $Unknown) 5) + '.' }
    if ($Told.Count -gt 0) { $Notes += ' Told: ' + (Join-Texts (Get-Ordered $Told) 5) + '.' }
    Write-Last ('as planned already; nothing was changed.' + $Notes)
    exit $(if ($Unknown.Count -gt 0) { 3 } else { 0 })
}
Write-Log ('drift: ' + ($Look.Drift -join '; '))
$Point = New-RestorePoint
Write-Log ('system restore point: ' + $Point)
if ($RestorePoint -ceq 'require' -and $Point -cne 'made' -and -not $Point.StartsWith('an earlier')) {
    Write-Last ('refused: a system restore point is required, and there is ' + $Point + '. Nothing was changed.')
    exit 5
}

# ---- Carry out: blocks first, so that nothing comes back in between ----

foreach ($Family in $Look.Blocks) {
    try {
        Add-Record 'Blocks' $Family
        Add-Key ($Store + '\Deprovisioned\' + $Family)
        $Done.Blocks += 1
    }
    catch { $Failures['the block of ' + $Family + ' could not be set: ' + (Get-CodeText (Get-Code $_))] = $Failures.Count + 40 }
}
$Parameters = (Get-Command Remove-AppxPackage).Parameters.Keys
$RemovesForAll = $Parameters -contains 'AllUsers'
$RemovesForUser = $Parameters -contains 'User'
$DeprovisionsForAll = (Get-Command Remove-AppxProvisionedPackage).Parameters.Keys -contains 'AllUsers'
foreach ($Entry in $Look.Provisioned) {
    if (-not (Test-Time)) { break }
    $Family = $Entry.Item.Family
    $WasBlocked = Test-Path -LiteralPath ($Store + '\Deprovisioned\' + $Family)
    try {
        Add-Record 'Removed' $Family
        if ($All -and $DeprovisionsForAll) { $null = Remove-AppxProvisionedPackage -Online -PackageName $Entry.FullName -AllUsers }
        else { $null = Remove-AppxProvisionedPackage -Online -PackageName $Entry.FullName }
        $Done.Provisioned += 1
        # The command sets a block by itself; where none is planned, none stays.
        if (-not $WasBlocked -and $Blocked -notcontains $Family -and (Test-Path -LiteralPath ($Store + '\Deprovisioned\' + $Family))) {
            Remove-Item -LiteralPath ($Store + '\Deprovisioned\' + $Family) -Recurse
        }
    }
    catch { if (Add-Failure $_ $Entry.Item $false) { $Again += @{ Entry = $Entry; Package = $null } } }
}
# Bundles take their parts along; what is left is taken one by one.
foreach ($Turn in @('bundles', 'others')) {
    if ($Turn -ceq 'others') { $Rest = Get-Look } else { $Rest = $Look }
    foreach ($Entry in $Rest.Registered) {
        if ($Lasting[$Entry.Item.Title]) { continue }
        if (@($Failures.Keys | Where-Object { $_.StartsWith($Entry.Item.Title + ' could not') }).Count -gt 0) { continue }
        $Bundles = @($Entry.Packages | Where-Object { $_.IsBundle -and @($_.Users | Where-Object { $Sids -contains $_ }).Count -gt 0 })
        $Others = @($Entry.Packages | Where-Object { -not $_.IsBundle -and @($_.Users | Where-Object { $Sids -contains $_ }).Count -gt 0 })
        foreach ($Package in $(if ($Turn -ceq 'bundles' -or $Bundles.Count -gt 0) { $Bundles } else { $Others })) {
            if (-not (Test-Time)) { break }
            if (@($Again | Where-Object { $_.Package -and $_.Package.FullName -ceq $Package.FullName }).Count -gt 0) { continue }
            Add-Record 'Removed' $Entry.Item.Family
            if (Remove-Registered $Entry $Package $false) { $Again += @{ Entry = $Entry; Package = $Package } }
        }
    }
}
foreach ($Entry in $Look.Guards) { if (Test-Time) { Set-Guard $Entry } }
foreach ($Program in $Look.Classic) { if (Test-Time) { Remove-Classic $Program } }
if ($Again.Count -gt 0 -and (Test-Time)) {
    Start-Sleep -Seconds 20
    foreach ($One in $Again) {
        if (-not (Test-Time)) { break }
        if ($One.Package) { $null = Remove-Registered $One.Entry $One.Package $true; continue }
        try {
            if ($All -and $DeprovisionsForAll) { $null = Remove-AppxProvisionedPackage -Online -PackageName $One.Entry.FullName -AllUsers }
            else { $null = Remove-AppxProvisionedPackage -Online -PackageName $One.Entry.FullName }
        }
        catch { $null = Add-Failure $_ $One.Entry.Item $true }
    }
}

# ---- Look again: only what is seen counts ----

$End = Get-Look
foreach ($Entry in $Look.Registered) {
    if ($Lasting[$Entry.Item.Title]) { continue }
    if (@($End.Registered | Where-Object { $_.Item.Family -ceq $Entry.Item.Family }).Count -eq 0) { $Done.Packages += 1 }
}
foreach ($Entry in $End.Registered) {
    if (-not $Lasting[$Entry.Item.Title] -and @($Failures.Keys | Where-Object { $_.StartsWith($Entry.Item.Title + ' could not') }).Count -eq 0) {
        $Failures[$Entry.Item.Title + ' is still there, though the system said nothing'] = $Failures.Count + 20
    }
}
foreach ($Text in @($End.Drift | Where-Object { $_ -match ' is not (blocked|set for) ?| is provisioned ' })) {
    $IsLasting = $false
    foreach ($Title in $Lasting.Keys) { if ($Text.StartsWith($Title + ' ')) { $IsLasting = $true } }
    if (-not $IsLasting -and $Failures.Count -eq 0) { $Failures['after all, ' + $Text] = 60 }
}
# What stayed after all, undo has nothing to give back of.
$Stayed = @(foreach ($Entry in $Look.Registered + $Look.Provisioned) {
    $Family = $Entry.Item.Family
    $Still = @($End.Registered | Where-Object { $_.Item.Family -ceq $Family } | ForEach-Object { $_.Sids })
    $Before = @($Look.Registered | Where-Object { $_.Item.Family -ceq $Family } | ForEach-Object { $_.Sids })
    $Given = @($End.Provisioned | Where-Object { $_.Item.Family -ceq $Family }).Count
    $WasGiven = @($Look.Provisioned | Where-Object { $_.Item.Family -ceq $Family }).Count
    if ($Lasting[$Entry.Item.Title] -or ($Still.Count -eq $Before.Count -and $Given -eq $WasGiven)) { $Family }
})
$Kept = @(Get-Value $Record 'Removed' | Where-Object { $_ -and $Stayed -cnotcontains $_ })
if ($Stayed.Count -gt 0 -and (Test-Path -LiteralPath $Record)) { Set-Value $Record 'Removed' 'MultiString' ([string[]]$Kept) }
$Sum = (Get-Count $Done.Packages 'package') + ' removed, ' + [string]$Done.Provisioned + ' no longer provisioned, ' +
    (Get-Count $Done.Blocks 'block') + ' and ' + (Get-Count $Done.Guards 'guard') + ' set' +
    $(if ($Classic.Count -gt 0) { ', ' + (Get-Count $Done.Programs 'program') + ' removed' } else { '' })
$Notes = ' System restore point: ' + $Point + '.'
if ($Told.Count -gt 0) { $Notes += ' Told: ' + (Join-Texts (Get-Ordered $Told) 5) + '.' }
if ($Unknown.Count -gt 0) { $Notes += ' Not known: ' + (Join-Texts (Get-Ordered $Unknown) 5) + '.' }
if ($Failures.Count -gt 0) {
    Write-Last ('done in part: ' + (Join-Texts (Get-Ordered $Failures) 10) + '. ' + $Sum + '.' + $Notes)
    exit 3
}
Write-Last ('done: ' + $Sum + '.' + $Notes)
exit $(if ($Unknown.Count -gt 0) { 3 } else { 0 })
