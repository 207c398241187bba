# Brings this computer to what is planned. Written by Moorfield; plan.txt says what is planned, and undo.ps1 takes back what can be.
# Run it as administrator or as SYSTEM, in Windows' own shell (5.1). It asks nothing. A second run does nothing.
#   -Preview   says what it would do, a line each, and changes nothing
#   -Resume    does the plan although a person undid it here
# Exit codes: 0 done or nothing to do, 1 failed: nothing was changed, 3 done in part (the line says what not), 4 done but for what waits (in use,
# or for an account to sign in), 5 refused: nothing was changed.
# Moorfield runs this script in its tests against a made-up machine. It was never run on Windows by its makers.

param([switch]$Preview, [switch]$Resume, [switch]$AtSignIn, [string]$Account)

# ---- Data ----------------------------------------------------------------------------------------------------------
##DATA##
$ScriptName = 'remediate'
$Passed = $(if ($Preview) { ' -Preview' }) + $(if ($Resume) { ' -Resume' }) + $(if ($AtSignIn) { ' -AtSignIn' }) + $(if ($Account) { ' -Account ' + $Account })
$Preview = [bool]$Preview -or [bool]$Account
##COMMON##
$Deadline = [datetime]::UtcNow.AddMinutes($Minutes)
$Done = @{ Provisioned = 0; Blocks = 0; Guards = 0; Programs = 0; Kept = @{} }
$Held = @{}
$Lasting = @{}

function Test-Time() {
    if ([datetime]::UtcNow -lt $Deadline) { return $true }
    Add-Failed ('the time limit of ' + [string]$Minutes + ' minutes was reached') 1
    $false
}

# What a failure means for a family. Those that may pass by themselves are tried again at the end, and wait if that does not help; those that only
# say that there is nothing to do are judged by the second look; part of Windows is remembered for this build and this day.
function Add-Failure($Failure, $Item) {
    $Codes = @(Get-Codes $Failure)
    $Text = $Codes[0]
    Write-Log ($Item.Title + ': ' + ($Codes -join ' ') + ' ' + $Failure.Exception.Message)
    if ($Codes -contains '0x80070032') {
        $Lasting[$Item.Family] = $true
        Add-Note ($Item.Title + ': ' + (Get-CodeText '0x80070032'))
        Add-Record 'Lasting' ($Item.Family + $Lately)
        Set-Outcome $Item.Family 'stays' '0x80070032' 'tried again on another day or build'
        return
    }
    if (@('0x80073CF1', '0x80070002', '0x80070003') -contains $Text) { return }
    $Held[$Item.Family] = @{ Item = $Item; Code = $Text }
}

# A restore point of the system, as far as it makes one. Gives what came of it.
function New-RestorePoint() {
    if ($RestorePoint -ceq 'none') { return 'none, as planned' }
    $Product = [string](Get-Value 'Registry::HKEY_LOCAL_MACHINE\SYSTEM\CurrentControlSet\Control\ProductOptions' 'ProductType')
    if ($Product -ne 'WinNT') { return 'none: servers have none' }
    $Before = @(Get-RestoreNumbers)
    $Why = 'the system made none'
    try { Checkpoint-Computer -Description 'Before Moorfield' -RestorePointType 'APPLICATION_UNINSTALL' }
    catch { $Why = 'system protection is off or failed' }
    $After = @(Get-RestoreNumbers)
    if ($After.Count -gt 0 -and ($Before.Count -eq 0 -or $After[0].Number -gt $Before[0].Number)) { return 'made' }
    if ($After.Count -gt 0) { return 'an earlier one, of ' + $After[0].Day }
    'none: ' + $Why
}

# Number and day of the restore points that there are, the last first.
function Get-RestoreNumbers() {
    try {
        @(Get-ComputerRestorePoint | Sort-Object -Property SequenceNumber -Descending | ForEach-Object {
            @{ Number = [long]$_.SequenceNumber; Day = [string]$_.CreationTime -creplace '^(\d{4})(\d\d)(\d\d)\d{6}.*$', '$1-$2-$3' }
        })
    }
    catch { return }
}

# Takes a package from those who have it and are meant.
function Remove-Registered($Entry, $Package) {
    if ($All -and $Wanted.Newcomers -and $RemovesForAll) {
        try { Remove-AppxPackage -Package $Package.FullName -AllUsers } catch { Add-Failure $_ $Entry.Item }
        return
    }
    foreach ($Sid in @($Entry.Sids | Where-Object { $Package.Users -contains $_ })) {
        if (-not $RemovesForUser) {
            Add-Failed ($Entry.Item.Title + ' could not be removed: this build of Windows cannot take it from one account') 10
            Set-Outcome $Entry.Item.Family 'failed' '' 'this build of Windows cannot take it from one account'
            return
        }
        try { Remove-AppxPackage -Package $Package.FullName -User $Sid } catch { Add-Failure $_ $Entry.Item }
    }
}

function Remove-Provisioned($Entry) {
    $Family = $Entry.Item.Family
    $Path = $Store + '\Deprovisioned\' + $Family
    $WasBlocked = Test-Path -LiteralPath $Path
    try {
        Add-Record 'Removed' ($Family + '||' + (Get-Plain $Entry.Item.Title))
        if (-not $WasBlocked -and $Blocked -contains $Family) { Add-Record 'Blocks' $Family }
        if ($All -and $DeprovisionsForAll) { $null = Remove-AppxProvisionedPackage -Online -PackageName $Entry.FullName -AllUsers }
        else { $null = Remove-AppxProvisionedPackage -Online -PackageName $Entry.FullName }
        $Done.Provisioned += 1
        # The command sets a block by itself; where none is planned, none stays.
        if (-not $WasBlocked -and $Blocked -notcontains $Family -and (Test-Path -LiteralPath $Path)) { Remove-Item -LiteralPath $Path -Recurse }
    }
    catch { Add-Failure $_ $Entry.Item }
}

function Set-Guard($Entry, [string]$Root) {
    $Guard = $Entry.Guard
    $What = $(if ($Guard.Title) { $Guard.Title + ' could not be kept from ' } else { 'the guard ' + $Guard.Name + ' could not be set for ' }) +
        $(if ($Entry.Who) { $Entry.Who.Name } else { 'the machine' })
    if (-not $Root -or -not (Test-Place $Guard.Key $Guard.Name)) { Add-Failed $What 50; return }
    try {
        $Before = Get-Exact $Root $Guard.Key $Guard.Name
        if ($null -ne $Before -and -not $Before.Kind) { Add-Failed ($What + ': what is there cannot be read exactly, so it could not come back') 50; return }
        $Mark = $(if (-not $Entry.Who) { 'Machine' } elseif ($Entry.Who.Sid) { $Entry.Who.Sid } else { 'Default' }) + '|' + $Guard.Key + '|' + $Guard.Name
        $Text = Get-GuardText $Guard.Kind $Guard.Data
        $Was = @(Get-Value ($Record + '\Guards') $Mark)
        if ($Was.Count -ne 4) { $Was = @(('=' + $Before.Kind), ('=' + $Before.Text)) }
        Set-Value ($Record + '\Guards') $Mark 'MultiString' ([string[]]@($Was[0], $Was[1], ('=' + $Guard.Kind), ('=' + $Text)))
        $IsSet = $(if ($Guard.Kind) { Set-Exact $Root $Guard.Key $Guard.Name $Guard.Kind $Text } else { Remove-Exact $Root $Guard.Key $Guard.Name })
        if ($IsSet) { if ($Guard.Title) { $Done.Kept[$Guard.Title] = $true } else { $Done.Guards += 1 }; return }
        if ($null -eq $Before -and $null -eq (Get-Exact $Root $Guard.Key $Guard.Name)) { Remove-ItemProperty -LiteralPath ($Record + '\Guards') -Name $Mark }
        Add-Failed ($What + ': it would not come back as it was written') 50
    }
    catch { Add-Failed ($What + ': ' + (Get-CodeText @(Get-Codes $_)[0])) 50 }
}

function Set-Guards($Entries) {
    foreach ($Who in @($null) + @($People) + $NewAccounts) {
        $Own = @($Entries | Where-Object { $(if ($Who) { $_.Who -and $_.Who.Sid -ceq $Who.Sid } else { -not $_.Who }) })
        if ($Own.Count -eq 0 -or -not (Test-Time)) { continue }
        $Root = $(if ($Who) { Open-Hive $Who } else { $Machine })
        foreach ($Entry in @($Own | Where-Object { $_.Guard.Hive -cne 'Program' })) { Set-Guard $Entry $Root }
        $Theirs = @($Own | Where-Object { $_.Guard.Hive -ceq 'Program' } | ForEach-Object { $_.Guard })
        if ($Theirs.Count -gt 0) { Remove-Own $Who $Theirs $Root }
        if ($Root) { Close-Hive $Root }
    }
}

# An account's own programs go in its own session, by a task for just that: what people may write is never run as the system.
function Remove-Own($Who, $Theirs, [string]$Root) {
    $Name = 'own-' + $Who.Sid
    try {
        Add-Task $Name $Who.Sid
        Start-ScheduledTask -TaskPath '\Moorfield\' -TaskName ($PlanId + '-' + $Name)
        $Until = [datetime]::UtcNow.AddSeconds($ProgramSeconds)
        do { Start-Sleep -Seconds 5 } while ([string](Get-Task $Name).State -cmatch '^(Queued|Running)$' -and [datetime]::UtcNow -lt $Until)
        Remove-Task $Name
        if (-not (Get-Task 'sign-in')) { Remove-Item -LiteralPath $TaskFolder -Recurse -Force -ErrorAction SilentlyContinue }
    }
    catch { Add-Failed ('no task could be set up for the programs of ' + $Who.Name + ': ' + (Get-CodeText @(Get-Codes $_)[0])) 50; return }
    foreach ($Program in $Theirs) {
        if (Test-Gone $Root $Program) { $Done.Programs += 1 }
        else { Add-Failed ($Program.Title + ' could not be removed for ' + $Who.Name + ': its own removal left it registered') 30 }
    }
}

# Runs the silent removal of a program: of the machine as the system, of an account in its own session.
function Remove-Program([string]$Root, $Program) {
    $What = $Program.Title + ' could not be removed: '
    $Command = Get-QuietCommand $Root $Program
    $Match = [regex]::Match($Command, '^\s*(?:"([^"]+)"|([^\s"]+))\s*(.*)$')
    $File = $Match.Groups[1].Value + $Match.Groups[2].Value
    $System = $env:SystemRoot + '\System32\'
    if ($File -match '^msiexec(\.exe)?$') { $File = $System + 'msiexec.exe' }
    # Only from the folders that the machine itself names for programs, or directly from the system's: nobody else may write there.
    $IsSafe = $File -match '^[A-Z]:\\' -and $File -notmatch '\\\.\.?(\\|$)|[*?%"/]|:.*:|~'
    $Rest = ''
    foreach ($Folder in @(${env:ProgramFiles}, ${env:ProgramFiles(x86)})) {
        if ($Folder -and $File.Length -gt $Folder.Length + 1 -and $File.Substring(0, $Folder.Length + 1) -eq ($Folder + '\')) { $Rest = $Folder }
    }
    if (($File -creplace '[^\\]*$', '') -eq $System) { $Rest = $System }
    try {
        if (-not $IsSafe -or (-not $Account -and (-not $Rest -or (Test-Writable $File) -or (Test-Writable ($File -creplace '\\[^\\]*$', '\'))))) {
            Add-Failed ($What + 'its command is not in a folder that only administrators write') 30
            return
        }
        Write-Log ($Program.Title + ': ' + $Command)
        if ($Match.Groups[3].Value) { $Process = Start-Process -FilePath $File -ArgumentList $Match.Groups[3].Value -PassThru -WindowStyle Hidden }
        else { $Process = Start-Process -FilePath $File -PassThru -WindowStyle Hidden }
        $null = $Process.Handle
        $Process | Wait-Process -Timeout $ProgramSeconds -ErrorAction SilentlyContinue
        if (-not $Process.HasExited) {
            Stop-Process -Id $Process.Id -Force -ErrorAction SilentlyContinue
            Add-Failed ($What + 'its own removal did not end in time') 30
        }
        elseif (@(0, 1641, 3010) -notcontains $Process.ExitCode) { Add-Failed ($What + 'its own removal ended with ' + [string]$Process.ExitCode) 30 }
        elseif (Test-Path -LiteralPath ('Registry::' + $Root + $Program.Key)) { Add-Failed ($What + 'its own removal ended well, and it is still registered') 30 }
        else { $Done.Programs += 1; if ($Process.ExitCode -ne 0) { Add-Note ($Program.Title + ' wants the computer to be started again') } }
    }
    catch { Add-Failed ($What + 'its own removal could not be started') 30 }
}

# An earlier plan of the same brief: its record is taken over, with what was there before it. Then blocks and guards that were set here and are
# wanted no more, by the plan or by a list, are taken back.
function Update-Earlier() {
    foreach ($Other in @(Get-SubKeys $Records | Where-Object { $_ -cmatch '^[0-9a-f]{16}$' -and $_ -cne $PlanId })) {
        $Path = $Records + '\' + $Other
        if (-not $Series -or (Get-Value $Path 'Series') -ne $Series) { continue }
        Set-Value $Record 'Series' 'String' $Series
        foreach ($Name in @('Blocks', 'Removed')) { Add-Record $Name @(Get-Value $Path $Name | Where-Object { $_ }) }
        foreach ($Mark in @(Get-Item -LiteralPath ($Path + '\Guards') -ErrorAction SilentlyContinue | ForEach-Object { $_.Property })) {
            $Was = @(Get-Value ($Path + '\Guards') $Mark)
            if ($Was.Count -eq 4 -and (Get-Marks) -notcontains $Mark) { Set-Value ($Record + '\Guards') $Mark 'MultiString' ([string[]]$Was) }
        }
        foreach ($Name in @('sign-in', 'undo') + @($Profiles | ForEach-Object { 'back-' + $_.Sid; 'own-' + $_.Sid })) { Remove-Task $Name $Other }
        Remove-Item -LiteralPath ($env:ProgramFiles + '\Moorfield\' + $Other) -Recurse -Force -ErrorAction SilentlyContinue
        Remove-Item -LiteralPath $Path -Recurse
        Add-Note 'an earlier plan of the same brief was taken over'
    }
    foreach ($Family in @(Get-List 'Blocks' | Where-Object { (Test-Family $_) -and $Blocked -notcontains $_ })) {
        if (Test-Path -LiteralPath ($Store + '\Deprovisioned\' + $Family)) { Remove-Item -LiteralPath ($Store + '\Deprovisioned\' + $Family) -Recurse }
        Remove-Record 'Blocks' @($Family)
    }
    Restore-Unwanted
    if (@(Get-Unwanted).Count -eq 0) { return }
    Add-Note 'guards that are wanted no more are lifted at the next sign-in of those who are signed out'
    try { Add-Task 'sign-in' '' } catch { Add-Failed ('no task could be set up: ' + (Get-CodeText @(Get-Codes $_)[0])) 50 }
}

# Guards that were set here and are wanted no more.
function Get-Unwanted() {
    foreach ($Mark in @(Get-Marks)) {
        $Parts = $Mark.Split('|')
        if (@($Wanted.Guards | Where-Object { $_.Key -eq $Parts[1] -and $_.Name -eq $Parts[2] }).Count -eq 0) { $Mark }
    }
}

function Restore-Unwanted() { foreach ($Mark in @(Get-Unwanted)) { $null = Restore-Guard $Mark } }

# Whether anything goes for which a restore point of the system is due.
function Test-Removal() { @(@($Look.Registered) + $Look.Provisioned + $Look.Programs + @($Look.Guards | Where-Object { $_.Guard.Hive -ceq 'Program' })).Count -gt 0 }

function Get-Gone() {
    $(if ($Programs.Count -gt 0) { ', ' + (Get-Count $Done.Programs 'program') + ' removed' }) +
        $(if ($Done.Kept.Count -gt 0) { ', ' + (Get-Count $Done.Kept.Count 'program') + ' kept from new accounts' })
}

if ($Account) {
    $Root = 'HKEY_USERS\' + $Account + '\'
    foreach ($Program in @($Programs | Where-Object { $_.Hive -ceq 'Program' -and -not (Test-Gone $Root $_) })) { Remove-Program $Root $Program }
    exit 0
}

# ---- Look ----

if (-not (Test-Administrator)) { Complete-Script 5 'refused: this needs an administrator or SYSTEM. Nothing was changed.' }
$HoldsRun = Open-Run
if (-not $HoldsRun) { Complete-Script 4 'waiting: another run is at work on this computer. Nothing was changed.' }
if (-not $Preview) { Close-Left; foreach ($Who in $Profiles) { Remove-Task ('own-' + $Who.Sid) } }
if ($Undone -and -not $Resume) {
    $Code = $(if ($Failures.Count -gt 0) { 3 } else { 0 })
    Complete-Script $Code ('undone by a person on ' + $Undone + '; nothing is done until a new plan comes (plan.txt says how to end that).' +
        (Get-Said ' Failed: ' $Failures 5))
}
if ($Undone -and -not $Preview) { Remove-ItemProperty -LiteralPath $Record -Name 'Undone' }
Start-Plan
if ($Wanted -and $AtSignIn) {
    # Only what waited for an account: the task that runs this goes when nothing waits any more.
    $In = @($People | Where-Object { Test-SignedIn $_.Sid })
    $Places = @(foreach ($Who in $In) { foreach ($Guard in @(Get-Own $Who)) { @{ Guard = $Guard; Who = $Who; Root = 'HKEY_USERS\' + $Who.Sid + '\' } } })
    Set-Guards @($Places | Where-Object { -not (Test-Guard $_.Root $_.Guard) })
    Add-Record 'Seen' @($Places | Where-Object { Test-Guard $_.Root $_.Guard } | ForEach-Object { $_.Who.Sid + '|' + $_.Guard.Key + '|' + $_.Guard.Name })
    $Seen = @(Get-List 'Seen') + @(Get-Marks)
    $Left = @(foreach ($Who in $People) { foreach ($Guard in @(Get-Own $Who)) { $Who.Sid + '|' + $Guard.Key + '|' + $Guard.Name } })
    Restore-Unwanted
    $Left = @($Left | Where-Object { $Seen -notcontains $_ }) + @(Get-Unwanted)
    if ($Left.Count -eq 0) { Remove-Task 'sign-in'; Remove-Item -LiteralPath $TaskFolder -Recurse -Force -ErrorAction SilentlyContinue }
    $Code = $(if ($Failures.Count -gt 0) { 3 } else { 0 })
    $Start = $(if ($Code -eq 0) { 'done at sign-in: ' } else { (Get-Said 'done in part: ' $Failures 10) + ' ' })
    Complete-Script $Code ($Start + (Get-Count $Done.Guards 'guard') + ' set' + (Get-Gone) + '.' + (Get-Notes))
}
if ($Wanted) { $Look = Get-Look (-not $Preview); Add-Strangers $Look.Apps }
if (-not $Wanted -or $Look.Failed) { Complete-Script 1 ('failed: nothing was changed.' + (Get-Notes)) }
foreach ($Text in $Look.Leaving.Values) { Add-Waiting $Text }
if ($Preview) {
    foreach ($Text in $Look.Drift) { Write-Output ('would put right: ' + (Get-Plain $Text)) }
    if (Test-Removal) { Write-Output ('system restore point: ' + $RestorePoint) }
    Complete-Script 0 ('preview: ' + (Get-Count $Look.Drift.Count 'difference') + ' would be put right; nothing was changed.' + (Get-Notes))
}
if ($Look.Drift.Count -eq 0) {
    Update-Earlier
    Add-Record 'Seen' $Look.Seen
    $Code = $(if ($Failures.Count + $Unknown.Count -gt 0) { 3 } elseif ($Waiting.Count -gt 0) { 4 } else { 0 })
    $Start = 'as planned already' + $(if ($Noted['an earlier plan of the same brief was taken over']) { '.' } else { '; nothing was changed.' })
    Complete-Script $Code ($Start + (Get-Said ' Failed: ' $Failures 10) + (Get-Notes))
}
Write-Log ('drift: ' + ($Look.Drift -join '; '))
$Point = 'none, since nothing goes'
if (Test-Removal) { $Point = New-RestorePoint }
Write-Log ('system restore point: ' + $Point)
if ($RestorePoint -ceq 'require' -and $Point -clike 'none*' -and $Point -cne 'none, since nothing goes') {
    Complete-Script 5 ('refused: a system restore point is required, and there is ' + $Point + '. Nothing was changed.')
}

# ---- Carry out: blocks first, so that nothing comes back in between ----

Set-Value $Record 'Series' 'String' $Series
Update-Earlier
Add-Record 'Seen' $Look.Seen
foreach ($Family in $Look.Blocks) {
    try { Add-Record 'Blocks' $Family; Add-Key ($Store + '\Deprovisioned\' + $Family); $Done.Blocks += 1 }
    catch { Add-Failed ('the block of ' + $Family + ' could not be set: ' + (Get-CodeText @(Get-Codes $_)[0])) 40 }
}
$Parameters = (Get-Command Remove-AppxPackage).Parameters.Keys
$RemovesForAll = $Parameters -contains 'AllUsers'
$RemovesForUser = $Parameters -contains 'User'
$DeprovisionsForAll = (Get-Command Remove-AppxProvisionedPackage).Parameters.Keys -contains 'AllUsers'
# What may pass by itself is tried once more: in use, a user signed off, something depends on it that went meanwhile.
foreach ($Round in 1..2) {
    $Retried = @($Held.Keys | Where-Object { @('0x80073D02', '0x80073D19', '0x80073CF3') -contains $Held[$_].Code })
    if ($Round -eq 2) {
        if ($Retried.Count -eq 0 -or -not (Test-Time)) { break }
        Start-Sleep -Seconds 20
        foreach ($Family in $Retried) { $Held.Remove($Family) }
    }
    $Now = $(if ($Round -eq 1) { $Look } else { Get-PackageLook })
    foreach ($Entry in @($Now.Provisioned | Where-Object { $Round -eq 1 -or $Retried -contains $_.Item.Family })) { if (Test-Time) { Remove-Provisioned $Entry } }
    # Bundles take their parts along; what is left is taken one by one.
    foreach ($Turn in @('bundles', 'others')) {
        if ($Turn -ceq 'others') { $Now = Get-PackageLook }
        foreach ($Entry in @($Now.Registered | Where-Object { $Round -eq 1 -or $Retried -contains $_.Item.Family })) {
            $Family = $Entry.Item.Family
            $Meant = @($Entry.Packages | Where-Object { @($_.Users | Where-Object { $Sids -contains $_ }).Count -gt 0 })
            $Bundles = @($Meant | Where-Object { $_.IsBundle })
            foreach ($Package in $(if ($Turn -ceq 'bundles' -or $Bundles.Count -gt 0) { $Bundles } else { $Meant })) {
                if ($Lasting[$Family] -or $Held[$Family] -or $Outcomes[$Family].State -ceq 'failed' -or -not (Test-Time)) { break }
                Add-Record 'Removed' ($Family + '|' + ($Entry.Sids -join ' ') + '|' + (Get-Plain $Entry.Item.Title))
                Remove-Registered $Entry $Package
            }
        }
    }
}
Set-Guards $Look.Guards
if ($Look.Later.Count -gt 0) {
    try { Add-Task 'sign-in' '' } catch { Add-Failed ('no task could be set up for accounts that sign in later: ' + (Get-CodeText @(Get-Codes $_)[0])) 50 }
}
foreach ($Program in $Look.Programs) { if (Test-Time) { Remove-Program $Machine $Program } }

# ---- Look again: only what is seen counts ----

$Started = $Outcomes
$Outcomes = @{}
$End = Get-Look $true
foreach ($Text in $End.Leaving.Values) { Add-Waiting $Text }
Add-Record 'Seen' $End.Seen
$Going = @(@($Look.Registered) + @($Look.Provisioned) | ForEach-Object { $_.Item.Family } | Sort-Object -Unique)
$Packages = 0
$Stayed = @()
foreach ($Family in $Going) {
    $Item = @($Wanted.Remove | Where-Object { $_.Family -eq $Family })[0]
    $Before = @($Look.Registered | Where-Object { $_.Item.Family -eq $Family } | ForEach-Object { $_.Sids })
    $Still = @($End.Registered | Where-Object { $_.Item.Family -eq $Family } | ForEach-Object { $_.Sids })
    $Given = @($End.Provisioned | Where-Object { $_.Item.Family -eq $Family }).Count
    if ($Before.Count -gt 0 -and $Still.Count -eq 0 -and $Outcomes[$Family].State -ceq 'gone') { $Packages += 1 }
    if ($Still.Count -eq $Before.Count -and $Given -eq @($Look.Provisioned | Where-Object { $_.Item.Family -eq $Family }).Count) { $Stayed += $Family }
    if ($Lasting[$Family]) { Set-Outcome $Family 'stays' '0x80070032' 'tried again on another day or build'; continue }
    if ($Still.Count -eq 0 -and $Given -eq 0) { continue }
    $Code = [string]$Held[$Family].Code
    if (@('0x80073D02', '0x80073D19') -contains $Code) {
        Add-Waiting ($Item.Title + ': ' + (Get-CodeText $Code))
        Set-Outcome $Family 'waiting' $Code 'tried again at the next run'
    }
    elseif ($Code) {
        Add-Failed ($Item.Title + ' could not be removed: ' + (Get-CodeText $Code)) 10
        Set-Outcome $Family 'failed' $Code 'tried again at the next run'
    }
    else {
        if ($Started[$Family].State -cne 'failed' -and (Test-Time)) { Add-Failed ($Item.Title + ' is still there, though the system said nothing') 20 }
        Set-Outcome $Family 'failed' '' 'tried again at the next run'
    }
}
if ($Failures.Count -eq 0) {
    $Stays = ' is not (blocked|set for) ?| is installed( for |$)| installs itself for | no task yet$'
    foreach ($Text in @($End.Drift | Where-Object { $_ -cmatch $Stays })) { Add-Failed ('after all, ' + $Text) 60 }
}
# What stayed after all, undo has nothing to give back of.
Remove-Record 'Removed' @(Get-List 'Removed' | Where-Object { $Stayed -contains $_.Split('|')[0] })
$Sum = (Get-Count $Packages 'package') + ' removed, ' + [string]$Done.Provisioned + ' no longer provisioned, ' +
    (Get-Count $Done.Blocks 'block') + ' and ' + (Get-Count $Done.Guards 'guard') + ' set' +
    (Get-Gone) + '. System restore point: ' + $Point + '.'
$Code = 0
$Start = 'done: '
if ($Waiting.Count -gt 0) { $Code = 4; $Start = 'done but for what waits: ' }
if ($Unknown.Count -gt 0) { $Code = 3; $Start = 'done as far as is known: ' }
if ($Failures.Count -gt 0) { $Code = 3; $Start = (Get-Said 'done in part: ' $Failures 10) + ' ' }
Complete-Script $Code ($Start + $Sum + (Get-Notes))
