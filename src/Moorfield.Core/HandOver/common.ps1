# ---- Code: the same in every hand-over ------------------------------------------------------------------------------

$ErrorActionPreference = 'Stop'
$ProgressPreference = 'SilentlyContinue'
$WarningPreference = 'SilentlyContinue'
$ConfirmPreference = 'None'
$Machine = 'HKEY_LOCAL_MACHINE\SOFTWARE\'
$MachineRoot = 'Registry::' + $Machine
$Records = $MachineRoot + 'Moorfield\HandOver'
$Record = $Records + '\' + $PlanId
$ListRecord = $MachineRoot + 'Moorfield\List\' + $PlanId
$Store = $MachineRoot + 'Microsoft\Windows\CurrentVersion\Appx\AppxAllUserStore'
$ProfileList = $MachineRoot + 'Microsoft\Windows NT\CurrentVersion\ProfileList'
$Reg = $env:SystemRoot + '\System32\reg.exe'
$IsFull = $ExecutionContext.SessionState.LanguageMode -eq 'FullLanguage'
$LogPath = ''
$Noted = @{}
$Unknown = @{}
$Failures = @{}
$Waiting = @{}
$Outcomes = @{}
$Strangers = @{ NotSeen = @{}; NotNamed = @{} }

# Run as a 32-bit process, it would see another registry than the system's own: the 64-bit shell does it instead.
if ($env:PROCESSOR_ARCHITEW6432) {
    $Native = $env:SystemRoot + '\SysNative\WindowsPowerShell\v1.0\powershell.exe'
    if (Test-Path -LiteralPath $Native) {
        $Words = '-NoProfile -ExecutionPolicy Bypass -File "' + $PSCommandPath + '"' + $Passed
        $Again = Start-Process -FilePath $Native -ArgumentList $Words -NoNewWindow -Wait -PassThru
        exit $(if ($null -eq $Again.ExitCode) { 1 } else { $Again.ExitCode })
    }
}

# ---- What is said ----

# Windows\Logs is a folder that only administrators write. A log of 1 MB gives way to a new one; one old one is kept.
function Start-Log() {
    try {
        $Folder = $env:SystemRoot + '\Logs\Moorfield'
        if (-not (Test-Path -LiteralPath $Folder)) { $null = New-Item -Path $Folder -ItemType Directory }
        $Path = $Folder + '\' + $ScriptName + '-' + $PlanId + '.log'
        if ((Test-Path -LiteralPath $Path) -and (Get-Item -LiteralPath $Path).Length -gt 1000000) { Move-Item -LiteralPath $Path -Destination ($Path + '.old') -Force }
        $Path
    }
    catch { '' }
}

function Get-Now() { [datetime]::UtcNow.ToString('s', [cultureinfo]::InvariantCulture) + 'Z' }

function Get-Plain([string]$Text) { $Text -creplace '[^ -~]', '?' }

function Write-Log([string]$Text) {
    if (-not $LogPath) { return }
    try { Add-Content -LiteralPath $LogPath -Value ((Get-Now) + ' ' + (Get-Plain $Text)) -Encoding Ascii } catch { return }
}

function Add-Note([string]$Text) { if (-not $Noted[$Text]) { $Noted[$Text] = $Noted.Count + 1; Write-Log ('note: ' + $Text) } }

function Add-Unknown([string]$Text) { if (-not $Unknown[$Text]) { $Unknown[$Text] = $Unknown.Count + 1; Write-Log ('not known: ' + $Text) } }

function Add-Waiting([string]$Text) { if (-not $Waiting[$Text]) { $Waiting[$Text] = $Waiting.Count + 1; Write-Log ('waiting: ' + $Text) } }

function Add-Failed([string]$Text, [int]$Rank) { if (-not $Failures[$Text]) { $Failures[$Text] = $Rank + $Failures.Count; Write-Log ('failed: ' + $Text) } }

# What became of a family, for programs that read the result.
function Set-Outcome([string]$Family, [string]$State, [string]$Code, [string]$Next) { $Outcomes[$Family] = @{ State = $State; Code = $Code; Next = $Next } }

function Get-Count([int]$Count, [string]$One) { [string]$Count + ' ' + $One + $(if ($Count -eq 1) { '' } else { 's' }) }

function Join-Texts($Texts, [int]$Most) {
    $List = @($Texts)
    $Text = (@($List | Select-Object -First $Most) -join '; ')
    if ($List.Count -gt $Most) { $Text += '; and ' + [string]($List.Count - $Most) + ' more' }
    $Text
}

function Get-Said([string]$Start, $Table, [int]$Most) { if ($Table.Count -gt 0) { $Start + (Join-Texts @($Table.Keys | Sort-Object { $Table[$_] }) $Most) + '.' } }

# What is said behind the gravest: what waits, what was told, what is not known.
function Get-Notes() { (Get-Said ' Waiting: ' $Waiting 5) + (Get-Said ' Notes: ' $Noted 5) + (Get-Said ' Not known: ' $Unknown 5) }

function Get-Json([string]$Text) { '"' + (Get-Plain $Text).Replace('\', '\\').Replace('"', '\"') + '"' }

# Ends the script: one line, short enough for a management service to keep; the same in JSON beside the log and in the record; an event.
function Complete-Script([int]$Code, [string]$Text) {
    $Line = Get-Plain ('moorfield: ' + $Text)
    if ($Line.Length -gt 1900) { $Line = $Line.Substring(0, 1880) + '... (see the log)' }
    Write-Log $Line
    if ($LogPath) {
        $Families = @(foreach ($Family in @($Outcomes.Keys | Sort-Object)) {
            $One = $Outcomes[$Family]
            '{"family":' + (Get-Json $Family) + ',"state":' + (Get-Json $One.State) + ',"code":' + (Get-Json $One.Code) + ',"next":' + (Get-Json $One.Next) + '}'
        })
        $Result = '{"schema":"moorfield.result/1","script":"' + $ScriptName + '","plan":"' + $PlanId + '","when":"' + (Get-Now) + '","code":' +
            [string]$Code + ',"line":' + (Get-Json $Line) + ',"families":[' + ($Families -join ',') + '],"notSeen":' + (Get-Names $Strangers.NotSeen) +
            ',"notNamed":' + (Get-Names $Strangers.NotNamed) + '}'
        try { Set-Content -LiteralPath ($LogPath -creplace '\.log$', '.json') -Value $Result -Encoding Ascii } catch { Write-Log 'the result could not be written' }
        try { if ($HoldsRun -and (Test-Path -LiteralPath $Record)) { Set-Value $Record 'Result' 'String' $Result } }
        catch { Write-Log 'the result could not be recorded' }
        try { New-EventLog -LogName 'Application' -Source 'Moorfield' -ErrorAction SilentlyContinue } catch { $null = 'it is there already' }
        $Id = @{ 'remediate' = 7100; 'detect' = 7200; 'undo' = 7300 }[$ScriptName] + $Code
        $Type = $(if (@(0, 4) -contains $Code) { 'Information' } else { 'Warning' })
        try { Write-EventLog -LogName 'Application' -Source 'Moorfield' -EventId $Id -EntryType $Type -Message $Line } catch { Write-Log 'no event could be written' }
    }
    Close-Run
    Write-Output $Line
    exit $Code
}

# All codes that a failure carries, such as 0x80073CFA. Its text is in the machine's language, and is never compared.
function Get-Codes($Failure) {
    $Said = [regex]::Matches([string]$Failure.Exception.Message, '0x[0-9A-Fa-f]{8}')
    $Found = @(foreach ($Match in $Said) { '0x' + ([string]$Match.Value).Substring(2).ToUpperInvariant() })
    if ($Found.Count -gt 0) { $Found } else { '0x{0:X8}' -f [int]$Failure.Exception.HResult }
}

$CodeTexts = @{
    '0x80073CFA' = 'the system did not let it go'; '0x80070032' = 'it is part of Windows'; '0x80073D19' = 'a user was signed off'
    '0x80073CF1' = 'it is not there'; '0x80073CF3' = 'something depends on it'; '0x80073D02' = 'it is in use'
    '0x80073D01' = 'a policy forbids it'; '0x80070002' = 'it is not provisioned'; '0x80070003' = 'it is not provisioned'; '0x80070005' = 'access was denied'
}

function Get-CodeText([string]$Code) { if ($CodeTexts[$Code]) { $CodeTexts[$Code] + ' (' + $Code + ')' } else { 'failed with ' + $Code } }

# ---- The registry ----

# Whether a name fits a pattern in any case: * stands for any letters, ? for one. Of the parts between two * the first place will do.
function Test-Pattern([string]$Pattern, [string]$Text) {
    $Parts = @([regex]::Escape($Pattern).Replace('\?', '.') -csplit '\\\*')
    $Middle = @($Parts | Select-Object -Skip 1 | Select-Object -SkipLast 1 | ForEach-Object { '(?>.*?' + $_ + ')' }) -join ''
    $Whole = $Parts[0] + $Middle + $(if ($Parts.Count -gt 1) { '.*' + $Parts[$Parts.Count - 1] })
    [regex]::IsMatch($Text, '(?s)^(?:' + $Whole + ')\z', 'IgnoreCase, CultureInvariant')
}

function Test-Family([string]$Family) { $Family -cmatch '^[A-Za-z0-9.-]{1,50}_[a-hj-km-np-tv-z0-9]{13}$' }

# Keys are made by a command that knows wildcards: none may be in them. The record parts its words by |.
function Test-Place([string]$Key, [string]$Name) {
    $Key -and $Key -cnotmatch '[*?\[\]|"\x00-\x1f/]' -and $Key -cnotmatch '(^|\\)(\\|$)' -and $Name -cnotmatch '[*?\[\]|"\x00-\x1f]'
}

function Get-SubKeys([string]$Path) { @(Get-ChildItem -LiteralPath $Path -ErrorAction SilentlyContinue | ForEach-Object { $_.PSChildName }) }

function Get-Value([string]$Path, [string]$Name) {
    $Shown = $(if ($Name) { $Name } else { '(default)' })
    (Get-ItemProperty -LiteralPath $Path -ErrorAction SilentlyContinue).$Shown
}

# Makes a key and those above it; one that is there stays as it is.
function Add-Key([string]$Path) {
    $Whole = ''
    foreach ($Part in $Path.Split('\')) {
        $Whole += $(if ($Whole) { '\' } else { '' }) + $Part
        if ($Whole.Contains('\') -and -not (Test-Path -LiteralPath $Whole)) { $null = New-Item -Path $Whole }
    }
}

function Set-Value([string]$Path, [string]$Name, [string]$Kind, $Data) {
    Add-Key $Path
    $Shown = $(if ($Name) { $Name } else { '(default)' })
    $null = New-ItemProperty -LiteralPath $Path -Name $Shown -PropertyType $Kind -Value $Data -Force
}

# Lists in the record of what was done here: it lies where only administrators write. Its Seen is what was found done in the registry of accounts,
# by whomever: of those who are signed out later, that is all that is known.
function Get-List([string]$Name) { @(Get-Value $Record $Name | Where-Object { $_ }) }

function Add-Record([string]$Name, $Texts) {
    $Before = @(Get-List $Name)
    $New = @($Texts | Where-Object { $Before -notcontains $_ })
    if ($New.Count -gt 0) { Set-Value $Record $Name 'MultiString' ([string[]]@($Before + $New)) }
}

function Remove-Record([string]$Name, $Texts) {
    $Left = @(Get-List $Name | Where-Object { $Texts -notcontains $_ })
    if ($Left.Count -gt 0) { Set-Value $Record $Name 'MultiString' ([string[]]$Left) }
    elseif ($null -ne (Get-Value $Record $Name)) { Remove-ItemProperty -LiteralPath $Record -Name $Name }
}

# The system's own program for the registry. Unlike the shell it leaves no key open, which would keep a hive mounted.
function Invoke-Reg($Words) {
    $ErrorActionPreference = 'SilentlyContinue'
    & $Reg @Words 2>$null
}

# Whether that program writes and prints a text as it is, whatever language and code page the machine has.
function Test-Printed([string]$Text) { $Text -cnotmatch '[^ !#->@-~]|\\$|\\0' }

$Kinds = @{ REG_DWORD = 'DWord'; REG_QWORD = 'QWord'; REG_SZ = 'String'; REG_EXPAND_SZ = 'ExpandString'; REG_MULTI_SZ = 'MultiString'; REG_BINARY = 'Binary' }

# A value as it stands, nothing expanded: its kind, and its data as text (numbers as 0x1, texts of a list joined by \0). Kind is '' when it
# cannot be read exactly. Nothing when there is no value. Hives that are mounted here are read by the system's own program only.
function Get-Exact([string]$Root, [string]$Key, [string]$Name) {
    $IsOurs = $Root -clike 'HKEY_USERS\Moorfield_*'
    if (-not $IsOurs) {
        $Data = Get-Value ('Registry::' + $Root + $Key) $Name
        if ($null -eq $Data) { return }
        if ($Data -is [array] -and $Data -isnot [byte[]]) {
            $Joined = @($Data) -join '\0'
            return @{ Kind = $(if (@($Data | Where-Object { -not $_ -or ([string]$_).Contains('\0') }).Count -eq 0) { 'MultiString' } else { '' }); Text = $Joined }
        }
    }
    $Words = @('query', ($Root + $Key)) + $(if ($Name) { @('/v', $Name) } else { @('/ve') })
    foreach ($Line in @(Invoke-Reg $Words)) {
        $Match = [regex]::Match([string]$Line, '^    .*?    (REG_[A-Z_]+)(?:    (.*))?$')
        if (-not $Match.Success) { continue }
        $Kind = [string]$Kinds[$Match.Groups[1].Value]
        $Text = [string]$Match.Groups[2].Value
        if (-not $IsOurs -and $Kind -ceq 'String') { return @{ Kind = 'String'; Text = [string]$Data } }
        if (@('String', 'ExpandString', 'MultiString') -ccontains $Kind -and -not (Test-Printed ($Text -creplace '\\0', ''))) { $Kind = '' }
        return @{ Kind = $Kind; Text = $Text }
    }
    if (-not $IsOurs) { @{ Kind = ''; Text = '' } }
}

# Writes such a value, and reads it back.
function Set-Exact([string]$Root, [string]$Key, [string]$Name, [string]$Kind, [string]$Text) {
    $Path = 'Registry::' + $Root + $Key
    $IsOurs = $Root -clike 'HKEY_USERS\Moorfield_*'
    if (-not $IsOurs -and @('String', 'ExpandString') -ccontains $Kind) { Set-Value $Path $Name $Kind $Text }
    elseif (-not $IsOurs -and $Kind -ceq 'MultiString') { Set-Value $Path $Name $Kind ([string[]]@($Text -csplit '\\0' | Where-Object { $_ })) }
    else {
        if (-not (Test-Printed ($Text -creplace '\\0', '')) -or -not (Test-Printed ($Key + $Name))) { return $false }
        $Words = @('add', ($Root + $Key)) + $(if ($Name) { @('/v', $Name) } else { @('/ve') }) +
            @('/t', @($Kinds.Keys | Where-Object { $Kinds[$_] -ceq $Kind })[0]) + $(if ($Text) { @('/d', $Text) } else { @() }) + @('/f')
        $null = Invoke-Reg $Words
        if ($LASTEXITCODE -ne 0) { return $false }
    }
    $Now = Get-Exact $Root $Key $Name
    $null -ne $Now -and $Now.Kind -ceq $Kind -and $Now.Text -ceq $Text
}

function Remove-Exact([string]$Root, [string]$Key, [string]$Name) {
    $null = Invoke-Reg (@('delete', ($Root + $Key)) + $(if ($Name) { @('/v', $Name) } else { @('/ve') }) + @('/f'))
    $LASTEXITCODE -eq 0 -and $null -eq (Get-Exact $Root $Key $Name)
}

# ---- Hives of accounts ----

# Where the registry of an account, or of new accounts, stands: as the system mounted it, or mounted for the time being; '' when it is not to be had.
function Open-Hive($Who) {
    if ($Who.Sid -and (Test-SignedIn $Who.Sid)) { return 'HKEY_USERS\' + $Who.Sid + '\' }
    $Name = 'Moorfield_' + $(if ($Who.Sid) { $Who.Sid } else { 'Default' })
    $null = Invoke-Reg @('load', ('HKU\' + $Name), ($Who.Folder + '\NTUSER.DAT'))
    if ($LASTEXITCODE -eq 0) { 'HKEY_USERS\' + $Name + '\' } else { '' }
}

function Test-SignedIn([string]$Sid) { Test-Path -LiteralPath ('Registry::HKEY_USERS\' + $Sid + '\Software') }

function Close-Hive([string]$Root) {
    if ($Root -cnotlike 'HKEY_USERS\Moorfield_*') { return }
    foreach ($Try in 1..5) {
        $null = Invoke-Reg @('unload', ($Root.TrimEnd('\') -creplace '^HKEY_USERS', 'HKU'))
        if ($LASTEXITCODE -eq 0) { return }
        Start-Sleep -Seconds 2
    }
    Add-Failed ('the registry of ' + ($Root.TrimEnd('\') -creplace '^.*\\Moorfield_', '') + ' stays mounted until the next start') 5
}

# Hives that a run left mounted which was ended.
function Get-Left() { @(Invoke-Reg @('query', 'HKU') | Where-Object { [string]$_ -cmatch '^HKEY_USERS\\Moorfield_(S-1-[0-9-]+|Default)$' }) }

function Close-Left() { foreach ($Line in @(Get-Left)) { Close-Hive ([string]$Line + '\') } }

# ---- One run at a time ----

# The shell that runs this, by its number and start: a number alone may be another one's by now.
function Get-Run() { try { [string]$PID + ' ' + (Get-Process -Id $PID).StartTime.Ticks } catch { '' } }

$RunFile = $env:SystemRoot + '\Logs\Moorfield\running'
$HoldsRun = $false

function Open-Run() {
    if (-not $LogPath) { return $true }
    foreach ($Try in 1..2) {
        try { $null = New-Item -Path $RunFile -ItemType File -Value (Get-Run); return $true }
        catch { $Holder = @([string](Get-Content -LiteralPath $RunFile -Raw -ErrorAction SilentlyContinue) -csplit ' ') }
        $Other = $(if ($Holder[0] -cmatch '^[0-9]{1,9}$') { Get-Process -Id ([int]$Holder[0]) -ErrorAction SilentlyContinue } else { $null })
        if ($Other -and [string]$Other.StartTime.Ticks -ceq $Holder[1]) { return $false }
        Remove-Item -LiteralPath $RunFile -Force -ErrorAction SilentlyContinue
    }
    $false
}

function Close-Run() { if ($HoldsRun -and $LogPath) { Remove-Item -LiteralPath $RunFile -Force -ErrorAction SilentlyContinue } }

# ---- Tasks for when an account signs in ----

$TaskFolder = $env:ProgramFiles + '\Moorfield\' + $PlanId

# Whether a file, or a folder, lets people write: by its rights, which do not depend on the language.
function Test-Writable([string]$Path) {
    foreach ($Match in [regex]::Matches([string](Get-Acl -LiteralPath $Path).Sddl, '\((A|XA);([A-Z]*);([^;]*);[^;]*;[^;]*;(BU|WD|AU|IU|AN|BG|S-1-5-21-[0-9-]+)')) {
        if (([string]$Match.Groups[2].Value).Contains('IO')) { continue }
        if (@('0x1200a9', '0x1200a0', '0x120089', 'FR', 'FX', 'FRFX', 'GR', 'GX', 'GRGX', 'GXGR') -cnotcontains $Match.Groups[3].Value) { return $true }
    }
    $false
}

# A task whose action is a copy of this script where only administrators write. Without a SID it runs as SYSTEM whoever signs in.
function Add-Task([string]$Name, [string]$Sid) {
    $File = $TaskFolder + '\' + $ScriptName + '.ps1'
    if (-not (Test-Path -LiteralPath $TaskFolder)) { $null = New-Item -Path $TaskFolder -ItemType Directory }
    if (Test-Writable $TaskFolder) { throw 'people may write the folder of the task' }
    if ($PSCommandPath -ne $File) { Copy-Item -LiteralPath $PSCommandPath -Destination $File -Force }
    $Shell = $env:SystemRoot + '\System32\WindowsPowerShell\v1.0\powershell.exe'
    $Words = '-NoProfile -NonInteractive -WindowStyle Hidden -ExecutionPolicy Bypass -File "' + $File + '" -AtSignIn' + $(if ($Sid) { ' -Account ' + $Sid })
    $Who = $(if ($Sid) { '<UserId>' + $Sid + '</UserId><LogonType>InteractiveToken</LogonType>' }
        else { '<UserId>S-1-5-18</UserId><RunLevel>HighestAvailable</RunLevel>' })
    $Xml = '<Task version="1.2" xmlns="http://schemas.microsoft.com/windows/2004/02/mit/task"><Triggers><LogonTrigger>' +
        $(if ($Sid) { '<UserId>' + $Sid + '</UserId>' } else { '<Delay>PT30S</Delay>' }) + '</LogonTrigger></Triggers><Principals><Principal id="A">' + $Who +
        '</Principal></Principals><Settings><DisallowStartIfOnBatteries>false</DisallowStartIfOnBatteries><StopIfGoingOnBatteries>false' +
        '</StopIfGoingOnBatteries><ExecutionTimeLimit>PT30M</ExecutionTimeLimit></Settings><Actions Context="A"><Exec><Command>' +
        (Get-Xml $Shell) + '</Command><Arguments>' + (Get-Xml $Words) + '</Arguments></Exec></Actions></Task>'
    $null = Register-ScheduledTask -TaskPath '\Moorfield\' -TaskName ($PlanId + '-' + $Name) -Xml $Xml -Force
}

function Get-Xml([string]$Text) { $Text.Replace('&', '&amp;').Replace('<', '&lt;').Replace('>', '&gt;').Replace('"', '&quot;') }

function Get-Task([string]$Name, [string]$Plan = $PlanId) { Get-ScheduledTask -TaskPath '\Moorfield\' -TaskName ($Plan + '-' + $Name) -ErrorAction SilentlyContinue }

function Remove-Task([string]$Name, [string]$Plan = $PlanId) {
    if (Get-Task $Name $Plan) { Unregister-ScheduledTask -TaskPath '\Moorfield\' -TaskName ($Plan + '-' + $Name) -Confirm:$false }
}

# ---- Whom it is for, and what is wanted: as written above, or as a list says that is fetched ----

$Profiles = @(foreach ($Sid in (Get-SubKeys $ProfileList)) {
    if ($Sid -notmatch '^S-1-(5-21|12-1)-[0-9-]+$') { continue }
    $Folder = ([string](Get-Value ($ProfileList + '\' + $Sid) 'ProfileImagePath')).TrimEnd('\')
    if ($Folder) { @{ Sid = $Sid; Folder = $Folder; Name = $Folder -creplace '^.*\\', '' } }
})
$DefaultFolder = [string](Get-Value $ProfileList 'Default')
$NewAccounts = @{ Sid = ''; Folder = $(if ($DefaultFolder) { $DefaultFolder } else { $env:SystemDrive + '\Users\Default' }); Name = 'new accounts' }

# The data of a guard as text, of the kind and range that it must have; nothing otherwise.
function Get-GuardText($Kind, $Data) {
    if ($Kind -ceq 'DWord' -or $Kind -ceq 'QWord') {
        $Number = [string]$Data
        if ($Kind -ceq 'DWord' -and $Data -isnot [int] -and $Data -isnot [long]) { return }
        if ($Number -cnotmatch '^(0|[1-9][0-9]{0,18})$' -or ($Number.Length -eq 19 -and $Number -cgt '9223372036854775807')) { return }
        if ($Kind -ceq 'DWord' -and [long]$Number -gt 4294967295) { return }
        return '0x{0:x}' -f [long]$Number
    }
    $Texts = @($Data)
    if (@($Texts | Where-Object { $_ -isnot [string] -or ([string]$_).Length -gt 30000 -or $_ -cmatch '\x00' }).Count -gt 0) { return }
    if ($Kind -ceq 'MultiString' -and @($Texts | Where-Object { -not $_ -or $_.Contains('\0') }).Count -eq 0) { return $Texts -join '\0' }
    if (@('String', 'ExpandString', 'Binary') -ccontains $Kind -and $Texts.Count -eq 1) { return $Texts[0] }
}

# A fetched list: one line with the digest of the other, which is data in JSON. Nothing of it is ever evaluated, and it can name only families,
# blocks, and those guards that stand in this script. Gives nothing for anything that is not exactly so.
function Read-List([string]$First, [string]$Body, [string]$Digest) {
    if ($First -cne ('moorfield.list/2 sha256:' + $Digest)) { return }
    try { $List = ConvertFrom-Json $Body } catch { return }
    if (($List.issue -isnot [int] -and $List.issue -isnot [long]) -or $List.issue -lt 1) { return }
    if ([string]$List.notAfter -cnotmatch '^[0-9]{4}-[0-9]{2}-[0-9]{2}$') { return }
    foreach ($Name in @('for', 'remove', 'keep', 'block', 'guards')) {
        if ($null -eq $List.$Name -or @($List.$Name | Where-Object { $null -eq $_ }).Count -gt 0) { return }
    }
    $Found = @{
        Accounts = @(); Newcomers = $false; Remove = @(); Keep = @($List.keep); Block = @($List.block); Guards = @()
        Issue = [long]$List.issue; NotAfter = [string]$List.notAfter
    }
    foreach ($Word in $List.for) {
        if ($Word -isnot [string] -or $Word -cmatch '^$|[\x00-\x1f"/\\\[\]:;|=,+*?<>]') { return }
        if (@('everyone', 'accounts') -ccontains $Word) { $Found.Accounts += '*' }
        if (@('everyone', 'newcomers') -ccontains $Word) { $Found.Newcomers = $true }
        if (@('everyone', 'accounts', 'newcomers') -cnotcontains $Word) { $Found.Accounts += $Word }
    }
    foreach ($Item in $List.remove) {
        if ($Item.family -isnot [string] -or -not (Test-Family $Item.family) -or $Item.part -isnot [bool]) { return }
        if ($Item.title -isnot [string] -or $Item.title -cnotmatch '^[^\x00-\x1f|]{1,200}$') { return }
        $Found.Remove += @{ Family = $Item.family; Title = $Item.title; Part = $Item.part }
    }
    foreach ($Family in $Found.Keep + $Found.Block) { if ($Family -isnot [string] -or -not (Test-Family $Family)) { return } }
    foreach ($Guard in $List.guards) {
        $Named = @($Guards | Where-Object { $_.Hive -ceq $Guard.hive -and $_.Key -eq $Guard.key -and $_.Name -eq $Guard.name -and $_.Kind -ceq $Guard.kind })
        if ($Named.Count -ne 1 -or $null -eq $Guard.data -or $null -eq (Get-GuardText $Guard.kind $Guard.data)) { return }
        $Found.Guards += @{ Hive = $Named[0].Hive; Key = $Named[0].Key; Name = $Named[0].Name; Kind = $Named[0].Kind; Data = $Guard.data }
    }
    $Found
}

# The list as it is at its address; the last good one when that fails or is older; what is written above until there was one. An outdated one is none.
function Get-Wanted() {
    $Own = @{ Accounts = $Accounts; Newcomers = $Newcomers; Remove = $Remove; Keep = @(); Block = $Block; Guards = $Guards }
    if (-not $ListUrl) { return $Own }
    $First = [string](Get-Value $ListRecord 'First')
    $Body = [string](Get-Value $ListRecord 'Body')
    $Last = Read-List $First $Body ($First -creplace '^.*sha256:', '')
    $Temporary = $env:SystemRoot + '\Logs\Moorfield\list-' + [guid]::NewGuid().ToString()
    $List = $null
    $Lines = @()
    try {
        # What 5.1 offers by itself may be too old for the server; where the language is constrained the system decides.
        if ($IsFull) { [Net.ServicePointManager]::SecurityProtocol = 'Tls12' } else { Write-Log 'the language is constrained: TLS is as the system sets it' }
        $Part = $Temporary + '.part'
        if ($Proxy) { Invoke-WebRequest -Uri $ListUrl -OutFile $Part -UseBasicParsing -TimeoutSec 60 -MaximumRedirection 0 -Proxy $Proxy }
        else { Invoke-WebRequest -Uri $ListUrl -OutFile $Part -UseBasicParsing -TimeoutSec 60 -MaximumRedirection 0 }
        $Lines = @(Get-Content -LiteralPath ($Temporary + '.part') -Encoding Ascii)
        if ($Lines.Count -eq 2) {
            Set-Content -LiteralPath ($Temporary + '.body') -Value $Lines[1] -Encoding Ascii -NoNewline
            $List = Read-List $Lines[0] $Lines[1] (Get-FileHash -LiteralPath ($Temporary + '.body') -Algorithm SHA256).Hash.ToLowerInvariant()
        }
    }
    catch { Write-Log ('the list could not be fetched: ' + $_.Exception.Message) }
    foreach ($End in @('.part', '.body')) { Remove-Item -LiteralPath ($Temporary + $End) -Force -ErrorAction SilentlyContinue }
    $Today = (Get-Now).Substring(0, 10)
    if ($List -and $Last -and $List.Issue -lt $Last.Issue) {
        Add-Note ('the list has an older issue (' + $List.Issue + ') than the last good one (' + $Last.Issue + '), which is used')
        $List = $Last
    }
    elseif ($List -and $List.NotAfter -cge $Today) {
        if ($ScriptName -ceq 'remediate' -and $LogPath -and (Test-Administrator)) {
            Set-Value $ListRecord 'First' 'String' $Lines[0]
            Set-Value $ListRecord 'Body' 'String' $Lines[1]
        }
    }
    elseif ($Last) { if (-not $List) { Add-Note 'the list could not be fetched or was damaged: the last good one is used'; $List = $Last } }
    elseif (-not $List) { Add-Note 'the list could not be fetched or was damaged, and there is none from before: what the script itself holds is used'; return $Own }
    if ($List.NotAfter -clt $Today) { Add-Unknown ('what is wanted: the list was good until ' + $List.NotAfter); return $null }
    $List
}

function Test-Administrator() { @(Get-SubKeys 'Registry::HKEY_USERS\S-1-5-19').Count -gt 0 }

# ---- What is there ----

$Filters = @('Main,Framework,Resource,Bundle,Optional', 'Main,Framework,Resource,Bundle')
$IsPartial = $false

# All packages with those who have them, those whom they leave at the next sign-in, and states that are not known here. One damaged package
# ends the whole listing: then the families that are meant are asked for one by one, and whose listing fails is not known.
function Get-Packages() {
    $Found = $null
    foreach ($Filter in $Filters) {
        if ($null -ne $Found) { continue }
        try { $Found = @(Get-AppxPackage -AllUsers -PackageTypeFilter $Filter) }
        catch { Write-Log ('packages could not be listed: ' + $_.Exception.Message) }
    }
    if ($null -eq $Found) {
        $Found = @(foreach ($Item in $Going) {
            try { Get-AppxPackage -AllUsers -Name ($Item.Family -creplace '_[^_]*$', '') -PackageTypeFilter $Filters[1]; $script:IsPartial = $true }
            catch { Add-Unknown ('who has ' + $Item.Title); $Broken[$Item.Family] = $true }
        })
    }
    foreach ($Package in $Found) {
        $One = @{
            Family = [string]$Package.PackageFamilyName; FullName = [string]$Package.PackageFullName; Place = [string]$Package.InstallLocation
            IsBundle = [bool]$Package.IsBundle; IsFramework = [bool]$Package.IsFramework; IsResource = [bool]$Package.IsResourcePackage
            NonRemovable = [bool]$Package.NonRemovable; IsPart = [string]$Package.SignatureKind -eq 'System'; Users = @(); Leaving = @(); Odd = @()
            Needs = @($Package.Dependencies | ForEach-Object { [string]$_.PackageFamilyName })
        }
        foreach ($User in $Package.PackageUserInformation) {
            $Sid = [string]$User.UserSecurityId.Sid
            $State = [string]$User.InstallState
            if ($State -match '^(Staged|NotInstalled|0|1)$') { continue }
            if ($State -match 'pending *removal' -or (Test-Path -LiteralPath ($Store + '\EndOfLife\' + $Sid + '\' + $One.FullName))) { $One.Leaving += $Sid }
            elseif ($State -match '^(Installed|2)$') { $One.Users += $Sid }
            else { $One.Odd += $Sid; $One.State = $State }
        }
        $One
    }
}

# Which packages differ from what is wanted. Drift is what can be put right; the gravest first.
function Get-PackageLook() {
    $Look = @{ Registered = @(); Provisioned = @(); Leaving = @{}; Blocks = @(); Guards = @(); Later = @(); Programs = @(); Seen = @(); Drift = @(); Failed = $false }
    $script:Broken = @{}
    $Packages = @(Get-Packages)
    $Provisioned = $null
    if ($Wanted.Newcomers) {
        try {
            $Provisioned = @(foreach ($Package in @(Get-AppxProvisionedPackage -Online)) {
                $Parts = ([string]$Package.PackageName).Split('_')
                @{ FullName = [string]$Package.PackageName; Family = $Parts[0] + '_' + $Parts[$Parts.Length - 1] }
            })
        }
        catch { Write-Log ('provisioned packages could not be listed: ' + $_.Exception.Message) }
        if ($null -eq $Provisioned) { Add-Unknown 'which packages are provisioned'; $Look.Failed = $true; $Provisioned = @() }
    }
    if ($Packages.Count -eq 0 -and ($Broken.Count -gt 0 -or -not $IsPartial)) { Add-Unknown 'which packages there are'; $Look.Failed = $true }
    $LastingFamilies = @(Get-List 'Lasting' | Where-Object { $_ -clike ('*' + $Lately) } | ForEach-Object { $_.Split('|')[0] })
    $GoingFamilies = @($Going | ForEach-Object { $_.Family })
    foreach ($Item in $Going) {
        if ($Broken[$Item.Family]) { Set-Outcome $Item.Family 'notKnown' '' 'asked again at the next run'; continue }
        $Own = @($Packages | Where-Object { $_.Family -eq $Item.Family -and -not $_.IsResource })
        $Having = @($Sids | Where-Object { $Sid = $_; @($Own | Where-Object { $_.Users -contains $Sid }).Count -gt 0 })
        $Leaving = @($Sids | Where-Object { $Sid = $_; $Having -notcontains $Sid -and @($Own | Where-Object { $_.Leaving -contains $Sid }).Count -gt 0 })
        $Odd = @($Own | Where-Object { @($_.Odd | Where-Object { $Sids -contains $_ }).Count -gt 0 })
        $Given = @($Provisioned | Where-Object { $_.Family -eq $Item.Family })
        if ($Odd.Count -gt 0) {
            Add-Unknown ('who has ' + $Item.Title + ', whose state is ' + $Odd[0].State)
            Set-Outcome $Item.Family 'notKnown' $Odd[0].State 'nothing: this state is not known'
            continue
        }
        if ($Leaving.Count -gt 0) {
            $Look.Leaving[$Item.Family] = $Item.Title + ' goes at the next sign-in of ' + (Get-Count $Leaving.Count 'account')
            Set-Outcome $Item.Family 'leaving' '' 'goes at the next sign-in'
        }
        else { Set-Outcome $Item.Family 'gone' '' '' }
        if ($Having.Count -eq 0 -and $Given.Count -eq 0) { continue }
        Set-Outcome $Item.Family 'stays' '' ''
        # The same refusals as Moorfield's own.
        if ($LastingFamilies -contains $Item.Family) { Add-Note ($Item.Title + ': ' + (Get-CodeText '0x80070032')); continue }
        if (@($Own | Where-Object { $_.NonRemovable }).Count -gt 0) { Add-Note ($Item.Title + ' is part of Windows here, and is not let go'); continue }
        if (-not $Item.Part -and @($Own | Where-Object { $_.IsPart }).Count -gt 0) { Add-Note ($Item.Title + ' is part of Windows here, and stays'); continue }
        if (@($Own | Where-Object { $_.IsFramework }).Count -gt 0) {
            if ($IsPartial) { Add-Note ($Item.Title + ' stays: what needs it could not be listed'); continue }
            $Needing = @($Packages | Where-Object { $_.Needs -contains $Item.Family -and $GoingFamilies -notcontains $_.Family -and $_.Users.Count -gt 0 })
            if ($Needing.Count -gt 0) { Add-Note ($Item.Title + ' stays: ' + $Needing[0].Family + ' needs it'); continue }
        }
        $With = @($Stays | Where-Object { $_.With -and $_.Family -eq $Item.Family -and ($IsPartial -or @($Packages.Family) -contains $_.With) })
        if ($With.Count -gt 0) { Add-Note ($Item.Title + ' stays: ' + $With[0].With + ' would go with it'); continue }
        Set-Outcome $Item.Family 'there' '' 'removed by remediate.ps1'
        if ($Having.Count -gt 0) {
            $Entry = @{ Item = $Item; Sids = $Having; Packages = $Own; IsFramework = @($Own | Where-Object { $_.IsFramework }).Count -gt 0 }
            # Frameworks go after what needs them.
            if ($Entry.IsFramework) { $Look.Registered = @($Look.Registered) + $Entry } else { $Look.Registered = @($Entry) + @($Look.Registered) }
            $Look.Drift += $Item.Title + ' is there for ' + (Get-Count $Having.Count 'account')
        }
        foreach ($One in $Given) {
            $Look.Provisioned += @{ Item = $Item; FullName = $One.FullName }
            $Look.Drift += $Item.Title + ' is provisioned for new accounts'
        }
    }
    if (-not $IsPartial) { $Look.Apps = @($Packages | Where-Object { $_.Users.Count -gt 0 -or @($Provisioned | ForEach-Object { $_.Family }) -contains $_.Family }) }
    $Look
}

# Apps that nobody decided about, which stay: a rule means them and no survey showed them, or no rule names them.
function Add-Strangers($Apps) {
    $Settled = @($Going.Family) + @($Kept) + @($Wanted.Block) + @($Stays.Family)
    foreach ($App in @($Apps | Where-Object { $_ -and $Settled -notcontains $_.Family -and (Test-Family $_.Family) })) {
        if ($App.IsFramework -or $App.IsResource -or $App.IsPart -or $App.NonRemovable -or @($App.Needs | Where-Object { @($Going.Family) -contains $_ }).Count -gt 0) { continue }
        $Names = @(($App.Family -creplace '_[^_]*$', ''), $App.Family, $App.FullName)
        $Fitting = @($Rules | Where-Object { $Pattern = $_.Pattern; @($Names | Where-Object { Test-Pattern $Pattern $_ }).Count -gt 0 })
        if (@($Fitting | Where-Object { $_.Keeps }).Count -gt 0) { continue }
        if ($Fitting.Count -gt 0) { $Strangers.NotSeen[$App.Family] = $true } elseif ($TellsUnlisted) { $Strangers.NotNamed[$App.Family] = $true }
    }
    $Ends = @{ NotSeen = ' that the brief means but no survey showed, left alone: '; NotNamed = ' that the brief does not name: ' }
    foreach ($Kind in @('NotSeen', 'NotNamed')) {
        $Names = @($Strangers.$Kind.Keys | Sort-Object)
        if ($Names.Count -gt 0) { Add-Note ((Get-Count $Names.Count 'family').Replace('ys', 'ies') + $Ends.$Kind + ((Join-Texts $Names 8) -creplace '; ', ', ')) }
    }
}

function Get-Names($Table) { '[' + (@($Table.Keys | Sort-Object | ForEach-Object { Get-Json $_ }) -join ',') + ']' }

# How the machine differs from what is wanted. Hives are mounted only where that is asked for.
function Get-Look([bool]$Mounts) {
    $Look = Get-PackageLook
    foreach ($Family in @($Blocked | Where-Object { -not (Test-Path -LiteralPath ($Store + '\Deprovisioned\' + $_)) })) {
        $Look.Blocks += $Family
        $Look.Drift += $Family + ' is not blocked'
    }
    foreach ($Guard in @($Wanted.Guards | Where-Object { $_.Hive -ceq 'Machine' -and -not (Test-Guard $Machine $_) })) {
        $Look.Guards += @{ Guard = $Guard; Who = $null }
        $Look.Drift += 'the guard ' + $Guard.Name + ' is not set for the machine'
    }
    $IsRecorded = $false
    $Marks = @(Get-Marks) + @(Get-List 'Seen')
    foreach ($Who in @($People) + @(if ($Wanted.Newcomers) { $NewAccounts })) {
        $Own = @(Get-Own $Who)
        if ($Own.Count -eq 0) { continue }
        $IsIn = $Who.Sid -and (Test-SignedIn $Who.Sid)
        $Name = $(if ($Who.Sid) { $Who.Sid } else { 'Default' })
        if (-not $IsIn -and -not ($Mounts -and (-not $Who.Sid -or $SignedOut))) {
            # No hive is mounted for a look: what was set here is taken from the record; the rest of a signed-out account is set when it signs in.
            $Missing = @($Own | Where-Object { $Marks -notcontains ($Name + '|' + $_.Key + '|' + $_.Name) })
            if ($Missing.Count -eq 0) { $IsRecorded = $true; continue }
            if ($Who.Sid -and -not $SignedOut) { $Look.Later += $Who; continue }
            $Look.Drift += @($Missing | ForEach-Object { Get-Lack $_ $Who } | Select-Object -Unique)
            continue
        }
        $Root = Open-Hive $Who
        if (-not $Root) { if (Test-Path -LiteralPath ($Who.Folder + '\NTUSER.DAT')) { Add-Unknown ('the guards of ' + $Who.Name) }; continue }
        foreach ($Guard in $Own) {
            if (Test-Guard $Root $Guard) { $Look.Seen += $Name + '|' + $Guard.Key + '|' + $Guard.Name; continue }
            if ($Guard.Hive -ceq 'Program' -and -not $IsIn) { if ($Look.Later -notcontains $Who) { $Look.Later += $Who }; continue }
            $Look.Guards += @{ Guard = $Guard; Who = $Who }
        }
        $Look.Drift += @($Look.Guards | Where-Object { $_.Who -eq $Who } | ForEach-Object { Get-Lack $_.Guard $Who } | Select-Object -Unique)
        Close-Hive $Root
    }
    if ($IsRecorded) { Add-Note 'the guards of accounts that are signed out, and of new ones, are taken from the record' }
    if ($Look.Later.Count -gt 0) {
        $Text = $(if ($Programs.Count -gt 0) { 'guards and programs of ' } else { 'guards of ' }) + (Get-Count $Look.Later.Count 'account') + ' wait for the next sign-in'
        if (Get-Task 'sign-in') { Add-Note $Text } else { $Look.Drift += $Text + ', for which there is no task yet' }
    }
    foreach ($Program in @($Programs | Where-Object { $_.Hive -ceq 'Machine' -and -not (Test-Gone $Machine $_) })) {
        $Look.Programs += $Program
        $Look.Drift += $Program.Title + ' is installed'
    }
    $Look
}

# What there is to do in an account's own registry, or in that of new accounts.
function Get-Own($Who) {
    $Hives = $(if ($Who.Sid) { @('Account', 'Program') } else { @('Account', 'Newcomers') })
    @($Wanted.Guards | Where-Object { $Hives -ccontains $_.Hive })
}

function Get-Lack($Guard, $Who) {
    if ($Guard.Hive -ceq 'Program') { return $Guard.Title + ' is installed for ' + $Who.Name }
    if ($Guard.Hive -ceq 'Newcomers') { return $Guard.Title + ' installs itself for new accounts' }
    'the guard ' + $Guard.Name + ' is not set for ' + $Who.Name
}

# Whether a program is not there, or has no quiet way to go: then it stays. What only a mounted registry tells is looked at when the account signs in.
function Test-Gone([string]$Root, $Program) {
    $null = Invoke-Reg @('query', ($Root + $Program.Key))
    if ($LASTEXITCODE -ne 0) { return $true }
    if ($Root -clike 'HKEY_USERS\Moorfield_*' -or (Get-QuietCommand $Root $Program)) { return $false }
    Add-Note ($Program.Title + ' has no quiet way to be removed, and stays')
    $true
}

# The command that removes a program without asking: by its product code what Windows Installer put there, else what the program registered for
# that. Looked up here and now, in the machine's own list or the account's.
function Get-QuietCommand([string]$Root, $Program) {
    $Key = 'Registry::' + $Root + $Program.Key
    $Code = [regex]::Match($Key, '\{[0-9A-Fa-f]{8}(-[0-9A-Fa-f]{4}){3}-[0-9A-Fa-f]{12}\}$').Value
    if ($Code -and (Get-Value $Key 'WindowsInstaller') -eq 1) { 'msiexec.exe /x ' + $Code + ' /qn /norestart' }
    else { [string](Get-Value $Key 'QuietUninstallString') }
}

# Whether there is nothing to do: it is set as it should be, or is gone. A guard without a kind is a value that must not be there.
function Test-Guard([string]$Root, $Guard) {
    if ($Guard.Hive -ceq 'Program') { return Test-Gone $Root $Guard }
    $Now = Get-Exact $Root $Guard.Key $Guard.Name
    if (-not $Guard.Kind) { return $null -eq $Now }
    $null -ne $Now -and $Now.Kind -ceq $Guard.Kind -and $Now.Text -ceq (Get-GuardText $Guard.Kind $Guard.Data)
}

# Guards that were set here, as place|key|name; the record has for each the kind and text from before and as set, each behind a =.
function Get-Marks() { @(Get-Item -LiteralPath ($Record + '\Guards') -ErrorAction SilentlyContinue | ForEach-Object { $_.Property }) }

# Gives a guard's place back what was there before, unless somebody set something else since. Gives whether that is done with.
function Restore-Guard([string]$Mark) {
    $Parts = @($Mark.Split('|'))
    $Was = @(Get-Value ($Record + '\Guards') $Mark)
    $Who = $(if ($Parts[0] -ceq 'Default') { $NewAccounts } else { @($Profiles | Where-Object { $_.Sid -ceq $Parts[0] })[0] })
    if ($Parts.Count -eq 3 -and $Was.Count -eq 4 -and (Test-Place $Parts[1] $Parts[2]) -and ($Parts[0] -ceq 'Machine' -or $Who)) {
        if ($Who.Sid -and -not $SignedOut -and -not (Test-SignedIn $Who.Sid)) { return $false }
        $Root = $(if ($Who) { Open-Hive $Who } else { $Machine })
        $What = 'the guard ' + $Parts[2] + ' could not be lifted for ' + $(if ($Who) { $Who.Name } else { 'the machine' })
        if (-not $Root) { Add-Failed $What 50; return $false }
        $Now = Get-Exact $Root $Parts[1] $Parts[2]
        $IsBack = $true
        if (($null -eq $Now) -eq ($Was[2] -ceq '=') -and ('=' + $Now.Kind) -ceq $Was[2] -and ('=' + $Now.Text) -ceq $Was[3]) {
            if ($Was[0] -ceq '=') { $IsBack = Remove-Exact $Root $Parts[1] $Parts[2] }
            else { $IsBack = Set-Exact $Root $Parts[1] $Parts[2] $Was[0].Substring(1) $Was[1].Substring(1) }
            if ($IsBack) { $script:Freed += 1 } else { Add-Failed $What 50 }
        }
        Close-Hive $Root
        if (-not $IsBack) { return $false }
    }
    Remove-ItemProperty -LiteralPath ($Record + '\Guards') -Name $Mark
    $true
}

# ---- Start ----

$Freed = 0

$LogPath = $(if ($Preview) { '' } else { Start-Log })
$Windows = $MachineRoot + 'Microsoft\Windows NT\CurrentVersion'
$Lately = '|' + [string](Get-Value $Windows 'CurrentBuild') + '.' + [string](Get-Value $Windows 'UBR') + '|' + (Get-Now).Substring(0, 10)
$Undone = [string](Get-Value $Record 'Undone')

function Start-Plan() {
    $script:Wanted = Get-Wanted
    if (-not $Wanted) { return }
    $script:Kept = @($Keep) + @($Wanted.Keep)
    $script:Going = @($Wanted.Remove | Where-Object { $_ -and $Kept -notcontains $_.Family })
    $script:Blocked = @($Wanted.Block | Where-Object { $_ -and $Kept -notcontains $_ })
    $script:All = $Wanted.Accounts -contains '*'
    $script:People = @($Profiles | Where-Object { $All -or $Wanted.Accounts -contains $_.Name -or $Wanted.Accounts -contains $_.Sid })
    $script:Sids = @($People | ForEach-Object { $_.Sid })
    $Wanted.Guards = @($Wanted.Guards) + @($Programs | Where-Object { $_.Hive -cne 'Machine' })
}
