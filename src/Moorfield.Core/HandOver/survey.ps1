# Looks at this computer's app packages and writes what it finds to one file, survey-COMPUTER.json, for 'moorfield'
# to read on another machine. It changes nothing: it reads the registry, folders and the lists of packages.
#
#     powershell.exe -NoProfile -ExecutionPolicy Bypass -File survey.ps1 [-To FOLDER]
#
# Run it as administrator or as SYSTEM, in Windows' own shell (5.1). Without -To the file goes to the current folder.
# Exit codes: 0 complete, 3 complete but for the gaps that the file names, 1 nothing was written.
# Moorfield runs this script in its tests against a made-up machine. It was never run on Windows by its makers.

param([string]$To = '.')

# ---- Data: what is looked up besides what every survey holds -------------------------------------------------------
##DATA##
# ---- Code: the same in every survey --------------------------------------------------------------------------------

$ErrorActionPreference = 'Stop'
$ProgressPreference = 'SilentlyContinue'
$Started = [datetime]::UtcNow
$Epoch = [datetime]'1970-01-01'
$Machine = 'Registry::HKEY_LOCAL_MACHINE\SOFTWARE\'
$Gaps = @{}

# A 32-bit shell sees another registry than the system's own.
if ($env:PROCESSOR_ARCHITEW6432) {
    $Native = $env:SystemRoot + '\SysNative\WindowsPowerShell\v1.0\powershell.exe'
    if (Test-Path -LiteralPath $Native) {
        $Arguments = '-NoProfile -ExecutionPolicy Bypass -File "' + $PSCommandPath + '" -To "' + $To.TrimEnd('\') + '"'
        $Again = Start-Process -FilePath $Native -ArgumentList $Arguments -NoNewWindow -Wait -PassThru
        if ($null -eq $Again.ExitCode) { exit 1 }
        exit $Again.ExitCode
    }
}

function Add-Gap([string]$Code, [string]$Text, $Account, $Package) {
    $Gaps[[string]($Gaps.Count + 10000)] = '{"code":' + (Get-Json $Code) + ',"text":' + (Get-Json $Text) + ',"account":' +
        (Get-Json $Account) + ',"package":' + (Get-Json $Package) + '}'
}

# A text as JSON in ASCII; null stays null.
function Get-Json($Value) {
    if ($null -eq $Value) { return 'null' }
    $Text = [string]$Value
    if ($Text -cmatch '[^ !#-\[\]-~]') {
        $Text = $Text.Replace('\', '\\').Replace('"', '\"').Replace("`r", '\r').Replace("`n", '\n').Replace("`t", '\t')
        if ($Text -cmatch '[^ -~]') {
            # Halves of pairs of characters mean nothing alone.
            $Text = $Text -creplace '[\uD800-\uDBFF](?![\uDC00-\uDFFF])|(?<![\uD800-\uDBFF])[\uDC00-\uDFFF]', '?'
            $Codes = @{}
            foreach ($Match in [regex]::Matches($Text, '[^ -~]')) { $Codes[[int][char]$Match.Value] = $true }
            foreach ($Code in $Codes.Keys) { $Text = $Text.Replace([string][char]$Code, ('\u{0:x4}' -f $Code)) }
        }
    }
    '"' + $Text + '"'
}

function Get-JsonFlag($Value) {
    if ($null -eq $Value) { 'null' } elseif ($Value) { 'true' } else { 'false' }
}

# Whole seconds since 1970.
function Get-Seconds([datetime]$Time) {
    $Ticks = [long](($Time - $Epoch).Ticks)
    [string][long](($Ticks - $Ticks % 10000000) / 10000000)
}

function Join-Json($Items) { '[' + (@($Items) -join ",`n") + ']' }

# A registry value as JSON; nothing for data of a kind that no reader asks for.
function Get-JsonValue([string]$Name, $Data, [bool]$Expands) {
    $Start = '{"name":' + (Get-Json $Name) + ','
    if ($Data -is [string]) { $Start + '"text":' + (Get-Json $Data) + $(if ($Expands) { ',"expands":true}' } else { '}' }) }
    elseif ($Data -is [int] -or $Data -is [uint32]) {
        $Number = [long]$Data
        if ($Number -lt 0) { $Number += 4294967296 }
        $Start + '"number":' + [string]$Number + '}'
    }
    elseif ($Data -is [long] -or $Data -is [uint64]) { $Start + '"long":' + ([string]$Data).Replace('-', '') + '}' }
    elseif ($Data -is [byte[]]) { $Start + '"bytes":"' + (@($Data | ForEach-Object { '{0:x2}' -f $_ }) -join '') + '"}' }
    elseif ($Data -is [array]) { $Start + '"texts":' + (Join-Json @($Data | ForEach-Object { Get-Json $_ })) + '}' }
}

# The key at a path below a hive with those of the named values that it has; nothing when there is no such key.
function Get-JsonKey([string]$Hive, [string]$Path, $Names) {
    $Values = @()
    $Property = Get-ItemProperty -LiteralPath ($Hive + $Path) -ErrorAction SilentlyContinue
    if ($null -ne $Property) {
        foreach ($Name in $Names) {
            $Shown = $(if ($Name) { $Name } else { '(default)' })
            $Data = $Property.$Shown
            if ($null -ne $Data) { $Values += Get-JsonValue $Name $Data $false }
        }
    }
    '{"key":' + (Get-Json $Path) + ',"values":' + (Join-Json $Values) + '}'
}

# The key at a path below a hive with all its values; nothing when there is no such key.
function Get-JsonValues([string]$Hive, [string]$Path) {
    if (Test-Path -LiteralPath ($Hive + $Path)) { Get-JsonKey $Hive $Path @((Get-Item -LiteralPath ($Hive + $Path)).Property) }
}

function Get-SubKeys([string]$Path) {
    @(Get-ChildItem -LiteralPath $Path -ErrorAction SilentlyContinue | ForEach-Object { $_.PSChildName })
}

# All keys directly below a path with the named values.
function Get-JsonSubKeys([string]$Hive, [string]$Path, $Names) {
    foreach ($Name in (Get-SubKeys ($Hive + $Path))) { Get-JsonKey $Hive ($Path + '\' + $Name) $Names }
}

# A place of the registry that the program knows packages by.
function Get-JsonPlace([string]$Hive, $Place, [string]$Sid) {
    $Key = $Place.Key.Replace('{sid}', $Sid)
    $Values = @($Place.Value | Where-Object { $_ })
    if (-not $Place.Nested) { Get-JsonSubKeys $Hive $Key $Values }
    else { foreach ($Name in (Get-SubKeys ($Hive + $Key))) { Get-JsonSubKeys $Hive ($Key + '\' + $Name) $Values } }
}

function Get-Value([string]$Path, [string]$Name) {
    (Get-ItemProperty -LiteralPath $Path -ErrorAction SilentlyContinue).$Name
}

# A policy value of a guard, where it is set.
function Get-JsonGuards([string]$Kind, [string]$Hive) {
    foreach ($Guard in $Guards) {
        if ($Guard.Hive -cne $Kind) { continue }
        $Data = Get-Value ($Hive + $Guard.Key) $Guard.Name
        if ($null -ne $Data) {
            '{"key":' + (Get-Json $Guard.Key) + ',"values":' + (Join-Json @(Get-JsonValue $Guard.Name $Data $Guard.Expands)) + '}'
        }
    }
}

# Who opens file types and links, of the classes in a hive: programs, and the packages behind ProgIds.
function Get-JsonClasses([string]$Hive, [string]$Classes, $Types, $ProgIds) {
    $Programs = @{}
    foreach ($ProgId in $ProgIds) { $Programs[$ProgId] = $true }
    foreach ($Type in $Types) {
        $Path = $Hive + $Classes + $Type
        if (-not (Test-Path -LiteralPath $Path)) { continue }
        if ($Type -clike '.*') {
            $Named = @(Get-Item -LiteralPath ($Path + '\OpenWithProgids') -ErrorAction SilentlyContinue | ForEach-Object { $_.Property })
            $Default = Get-Value $Path '(default)'
            if ($Default) { $Programs[[string]$Default] = $true }
            foreach ($Name in $Named) { $Programs[[string]$Name] = $true }
            Get-JsonKey $Hive ($Classes + $Type) @('')
            $Values = @($Named | Where-Object { $_ -and $_ -ne '(default)' } | ForEach-Object { '{"name":' + (Get-Json $_) + ',"bytes":""}' })
            '{"key":' + (Get-Json ($Classes + $Type + '\OpenWithProgids')) + ',"values":' + (Join-Json $Values) + '}'
        }
        elseif ($null -ne (Get-Value $Path 'URL Protocol') -and (Test-Path -LiteralPath ($Path + '\shell\open\command'))) {
            Get-JsonKey $Hive ($Classes + $Type) @('URL Protocol')
            '{"key":' + (Get-Json ($Classes + $Type + '\shell\open\command')) + ',"values":[]}'
        }
    }
    foreach ($Program in @($Programs.Keys | Sort-Object)) {
        $Path = $Classes + $Program
        if (-not $Program -or $Program.Contains('\') -or -not (Test-Path -LiteralPath ($Hive + $Path))) { continue }
        if ($Program -clike 'AppX*') { Get-JsonKey $Hive ($Path + '\Application') @('AppUserModelID') }
        elseif (Test-Path -LiteralPath ($Hive + $Path + '\shell\open\command')) {
            '{"key":' + (Get-Json ($Path + '\shell\open\command')) + ',"values":[]}'
        }
    }
}

# A folder with the size of all that is in it.
function Get-JsonFolder([string]$Path, $Account, $Package) {
    $Failed = $null
    $All = @(Get-ChildItem -LiteralPath $Path -Recurse -Force -File -ErrorAction SilentlyContinue -ErrorVariable Failed)
    $Total = [long]0
    $Last = $Epoch
    foreach ($One in $All) {
        $Total += $One.Length
        if ($One.Length -gt 0 -and $One.LastWriteTimeUtc -gt $Last) { $Last = $One.LastWriteTimeUtc }
    }
    if ($Failed) { Add-Gap 'folderUnreadable' ($Path + ' could not be looked into in full.') $Account $Package }
    '{"path":' + (Get-Json $Path) + ',"total":' + [string]$Total + ',"changed":' + (Get-Seconds $Last) +
        $(if ($Failed) { ',"unread":true}' } else { '}' })
}

# A file with its text; nothing when there is none.
function Get-JsonFile([string]$Path, $Package) {
    $Failed = $null
    $Item = Get-Item -LiteralPath $Path -Force -ErrorAction SilentlyContinue -ErrorVariable Failed
    if (-not $Item) {
        if ($Package) { Add-Gap 'manifestUnreadable' ($Path + ' is not there, or could not be read.') $null $Package }
        return
    }
    if ($Item.Length -gt $MostText) { Add-Gap 'fileTooLong' ($Path + ' is too long to be brought along.') $null $Package; return }
    $Text = Get-Content -LiteralPath $Path -Raw -Encoding UTF8 -ErrorAction SilentlyContinue
    if ($null -eq $Text) {
        Add-Gap 'manifestUnreadable' ($Path + ' could not be read.') $null $Package
        return
    }
    '{"path":' + (Get-Json $Path) + ',"text":' + (Get-Json $Text) + '}'
}

# ---- What is looked at ----

if (@(Get-SubKeys 'Registry::HKEY_USERS\S-1-5-19').Count -eq 0) {
    Add-Gap 'notAdministrator' 'The survey was not run as administrator: it saw only what the one who ran it may see.' $null $null
}
$Bits = $(if ($env:PROCESSOR_ARCHITECTURE -eq 'x86' -and $env:PROCESSOR_ARCHITEW6432) { 32 } else { 64 })
if ($Bits -eq 32) { Add-Gap 'host32' 'The shell is a 32-bit one, which sees another registry than the system''s own.' $null $null }

# Packages, with who has them.
$Packages = $null
$Filters = @('Main,Framework,Resource,Bundle,Optional', 'Main,Framework,Resource,Bundle')
foreach ($Filter in $Filters) {
    if ($null -ne $Packages) { continue }
    try { $Packages = @(Get-AppxPackage -AllUsers -PackageTypeFilter $Filter) } catch { $Reason = $_.Exception.Message }
}
if ($null -eq $Packages) { Add-Gap 'packages' ('The packages of all users could not be listed: ' + $Reason) $null $null }
$States = @{}
$PackageLines = @(foreach ($Package in $Packages) {
    $Users = @(foreach ($User in $Package.PackageUserInformation) {
        $States[[string]$User.InstallState] = [string]@($User.InstallState.PSObject.TypeNames)[0]
        '{"account":' + (Get-Json $User.UserSecurityId.Sid) + ',"state":' + (Get-Json $User.InstallState) + '}'
    })
    '{"fullName":' + (Get-Json $Package.PackageFullName) + ',"place":' + (Get-Json $Package.InstallLocation) + ',"nonRemovable":' +
        (Get-JsonFlag $Package.NonRemovable) + ',"signature":' + (Get-Json $Package.SignatureKind) + ',"status":' + (Get-Json $Package.Status) +
        ',"users":' + (Join-Json $Users) + '}'
})
$ProvisionedLines = $null
try {
    $ProvisionedLines = @(foreach ($Package in @(Get-AppxProvisionedPackage -Online)) {
        '{"fullName":' + (Get-Json $Package.PackageName) + ',"displayName":' + (Get-Json $Package.DisplayName) + '}'
    })
}
catch { Add-Gap 'provisioned' ('The provisioned packages could not be listed: ' + $_.Exception.Message) $null $null }

# What this Windows calls things: the makers of the scripts never saw one.
$StateLines = @(foreach ($State in @($States.Keys | Sort-Object)) { '{"name":' + (Get-Json $State) + ',"type":' + (Get-Json $States[$State]) + '}' })
$CommandLines = @(foreach ($Name in $Commands) {
    $Has = @(Get-Command $Name -ErrorAction SilentlyContinue | ForEach-Object { $_.Parameters.Keys } | Sort-Object | ForEach-Object { Get-Json $_ })
    '{"name":' + (Get-Json $Name) + ',"parameters":' + (Join-Json $Has) + '}'
})

# Their manifests and sizes.
$Types = @{}
$Seen = @{}
$FileLines = @(
    foreach ($Package in $Packages) {
        $Place = [string]$Package.InstallLocation
        if (-not $Place -or $Seen[$Place]) { continue }
        $Seen[$Place] = $true
        Get-JsonFolder $Place $null $Package.PackageFullName
        $Inside = $(if ($Package.IsBundle) { '\AppxMetadata\AppxBundleManifest.xml' } else { '\AppxManifest.xml' })
        $Line = Get-JsonFile ($Place + $Inside) $Package.PackageFullName
        $Line
        # What manifests open is looked up in the classes afterwards.
        foreach ($Match in [regex]::Matches([string]$Line, 'FileType>\s*(\.[^<>"\\\s]+)\s*<|Protocol[^<>]{0,300}?\sName=(?:\\"|'')([A-Za-z][A-Za-z0-9+.-]*)(?:\\"|'')')) {
            $Types[$Match.Groups[1].Value + $Match.Groups[2].Value] = $true
        }
    }
    foreach ($Root in @('C:\Program Files\WindowsApps', 'C:\Windows\SystemApps')) {
        foreach ($Folder in @(Get-ChildItem -LiteralPath $Root -Force -Directory -ErrorAction SilentlyContinue)) {
            $Place = $Root + '\' + $Folder.Name
            if ($Seen[$Place] -or -not $Folder.Name.Contains('_')) { continue }
            Get-JsonFolder $Place $null $null
            if (Test-Path -LiteralPath ($Place + '\AppxManifest.xml')) { Get-JsonFile ($Place + '\AppxManifest.xml') $null }
        }
    }
    foreach ($List in $Lists) { if (Test-Path -LiteralPath $List) { Get-JsonFile $List $null } }
)
$TypeNames = @($Types.Keys | Sort-Object)

# The machine's registry.
$Profiles = @{}
foreach ($Sid in (Get-SubKeys ($Machine + $ProfileList))) {
    if ($Sid -match '^S-1-(5-21|12-1)-[0-9-]+$') { $Profiles[$Sid] = [string](Get-Value ($Machine + $ProfileList + '\' + $Sid) 'ProfileImagePath') }
}
$MachineLines = @(
    Get-JsonKey $Machine 'Microsoft\Windows NT\CurrentVersion' @('ProductName', 'EditionID', 'DisplayVersion', 'CurrentBuild', 'UBR')
    Get-JsonKey $Machine 'Microsoft\Cryptography' @('MachineGuid')
    Get-JsonKey $Machine 'Microsoft\Windows\CurrentVersion\OEMInformation' @('Manufacturer', 'Model')
    Get-JsonSubKeys $Machine $ProfileList @('ProfileImagePath')
    # How hand-overs ended here.
    Get-JsonSubKeys $Machine 'Moorfield\HandOver' @('Series', 'Result', 'Undone')
    if (Test-Path -LiteralPath ($Machine + $Store)) { Get-JsonKey $Machine $Store @() }
    foreach ($Place in $MachinePlaces) { Get-JsonPlace $Machine $Place '' }
    foreach ($Sid in @($Profiles.Keys | Sort-Object)) {
        foreach ($Place in $MachineAccountPlaces) { Get-JsonPlace $Machine $Place $Sid }
    }
    foreach ($Uninstall in $Uninstalls) { Get-JsonSubKeys $Machine $Uninstall $ProgramValues }
    foreach ($Start in $StartKeys) { Get-JsonValues $Machine $Start }
    foreach ($Setup in $ActiveSetups) { Get-JsonSubKeys $Machine $Setup @('', 'StubPath', 'IsInstalled', 'Version') }
    Get-JsonClasses $Machine 'Classes\' $TypeNames @()
    Get-JsonGuards 'Machine' $Machine
)
$HiveLines = @('{"hive":"machine","keys":' + (Join-Json $MachineLines) + '}')

$Control = 'Registry::HKEY_LOCAL_MACHINE\SYSTEM\'
$Computer = [string](Get-Value ($Control + 'CurrentControlSet\Control\ComputerName\ComputerName') 'ComputerName')
$SystemLines = @(
    '{"key":"ControlSet001\\Control\\ComputerName\\ComputerName","values":' + (Join-Json @(Get-JsonValue 'ComputerName' $Computer $false)) + '}'
    if (Test-Path -LiteralPath ($Control + 'CurrentControlSet\Control\MUI\Settings')) {
        $Preferred = Get-Value ($Control + 'CurrentControlSet\Control\MUI\Settings') 'PreferredUILanguages'
        if ($Preferred) {
            '{"key":"ControlSet001\\Control\\MUI\\Settings","values":' +
                (Join-Json @(Get-JsonValue 'PreferredUILanguages' @($Preferred) $false)) + '}'
        }
    }
    # By its firmware a machine is known again that was renamed, and told from a copy of its system.
    $Firmware = [string](Get-Value ($Control + 'HardwareConfig') 'LastConfig')
    if ($Firmware) { '{"key":"HardwareConfig","values":' + (Join-Json @(Get-JsonValue 'LastConfig' $Firmware $false)) + '}' }
    # The place in the directory: the one that was set, the one that was found.
    $Site = @(foreach ($Name in 'SiteName', 'DynamicSiteName') {
        $Text = [string](Get-Value ($Control + 'CurrentControlSet\Services\Netlogon\Parameters') $Name)
        if ($Text) { Get-JsonValue $Name $Text $false }
    })
    if ($Site) { '{"key":"ControlSet001\\Services\\Netlogon\\Parameters","values":' + (Join-Json $Site) + '}' }
    foreach ($Name in (Get-SubKeys ($Control + 'CurrentControlSet\Control\MUI\UILanguages'))) {
        '{"key":' + (Get-Json ('ControlSet001\Control\MUI\UILanguages\' + $Name)) + ',"values":[]}'
    }
)
$HiveLines += '{"hive":"system","keys":' + (Join-Json $SystemLines) + '}'

$PackageNames = @{}

# The accounts' own: the registry of those that are signed in, and what they have in their apps.
foreach ($Sid in @($Profiles.Keys | Sort-Object)) {
    $Home_ = $Profiles[$Sid]
    $Name = $Home_ -creplace '^.*\\', ''
    $Own = 'Registry::HKEY_USERS\' + $Sid + '\'
    $Classes = 'Registry::HKEY_USERS\' + $Sid + '_Classes\'
    if (Test-Path -LiteralPath $Own) {
        $Choices = @{}
        $OwnLines = @(
            foreach ($Place in $ChoicePlaces) {
                foreach ($What in (Get-SubKeys ($Own + $Place))) {
                    $ProgId = Get-Value ($Own + $Place + '\' + $What + '\UserChoice') 'ProgId'
                    if (-not $ProgId) { continue }
                    $Choices[[string]$ProgId] = $true
                    Get-JsonKey $Own ($Place + '\' + $What + '\UserChoice') @('ProgId')
                }
            }
            Get-JsonSubKeys $Own $AccountUninstall $ProgramValues
            foreach ($Start in $AccountStartKeys) { Get-JsonValues $Own $Start }
            Get-JsonGuards 'Account' $Own
        )
        $HiveLines += '{"hive":"account","account":' + (Get-Json $Sid) + ',"keys":' + (Join-Json $OwnLines) + '}'
        $ChosenIds = @($Choices.Keys | Sort-Object)
        foreach ($Package in (Get-SubKeys ($Classes + $AccountPackages))) {
            $Shown = [string](Get-Value ($Classes + $AccountPackages + '\' + $Package) 'DisplayName')
            if ($Shown -and $Shown -notmatch '^(@\{|ms-resource:)') { $PackageNames[$Package] = $Shown }
        }
        $ClassLines = @(
            foreach ($Place in $ClassesPlaces) { Get-JsonPlace $Classes $Place $Sid }
            Get-JsonClasses $Classes '' $TypeNames $ChosenIds
        )
        if (Test-Path -LiteralPath $Classes) {
            $HiveLines += '{"hive":"classes","account":' + (Get-Json $Sid) + ',"keys":' + (Join-Json $ClassLines) + '}'
        }
    }
    else {
        Add-Gap 'signedOut' ($Name + ' was signed out: what it opens files with, and its guards, are not known.') $Sid $null
    }
    $Data = $Home_ + '\AppData\Local\Packages'
    if (-not (Test-Path -LiteralPath $Home_)) { continue }
    $Failed = $null
    $Families = @(Get-ChildItem -LiteralPath $Data -Force -Directory -ErrorAction SilentlyContinue -ErrorVariable Failed)
    if ($Failed -and (Test-Path -LiteralPath $Data)) {
        Add-Gap 'folderUnreadable' ($Data + ' could not be looked into.') $Sid $null
        $FileLines += '{"path":' + (Get-Json $Data) + ',"unread":true}'
    }
    $FileLines += @(foreach ($Family in $Families) {
        '{"path":' + (Get-Json ($Data + '\' + $Family.Name)) + '}'
        foreach ($Folder in @('LocalState', 'RoamingState', 'LocalCache')) {
            $Place = $Data + '\' + $Family.Name + '\' + $Folder
            if (Test-Path -LiteralPath $Place) { Get-JsonFolder $Place $Sid $null }
        }
        $Place = $Data + '\' + $Family.Name + '\Settings'
        foreach ($File in @(Get-ChildItem -LiteralPath $Place -Force -File -ErrorAction SilentlyContinue)) {
            '{"path":' + (Get-Json ($Place + '\' + $File.Name)) + ',"bytes":' + [string]$File.Length + ',"changed":' +
                (Get-Seconds $File.LastWriteTimeUtc) + '}'
        }
    })
}

# What packages and applications are called where people see them.
$NameLines = @(foreach ($Package in @($PackageNames.Keys | Sort-Object)) {
    '{"package":' + (Get-Json $Package) + ',"text":' + (Get-Json $PackageNames[$Package]) + '}'
})
try {
    $NameLines += @(foreach ($App in @(Get-StartApps)) {
        if ([string]$App.AppID -cmatch '!') { '{"app":' + (Get-Json $App.AppID) + ',"text":' + (Get-Json $App.Name) + '}' }
    })
}
catch { Add-Gap 'names' 'What Start calls the apps could not be asked for: some names are guessed.' $null $null }

# ---- What was found ----

$Mode = [string]$ExecutionContext.SessionState.LanguageMode
$GapLines = @($Gaps.Keys | Sort-Object | ForEach-Object { $Gaps[$_] })
$Survey = '{"schema":"moorfield.survey/1",' + "`n" +
    '"computer":' + (Get-Json $Computer) + ',"made":"' + $Started.ToString('s', [cultureinfo]::InvariantCulture) + 'Z","seconds":' +
    [string][long](([datetime]::UtcNow - $Started).TotalSeconds) + ",`n" +
    '"shell":{"version":' + (Get-Json $PSVersionTable.PSVersion) + ',"mode":' + (Get-Json $Mode) + ',"bits":' + [string]$Bits + "},`n" +
    '"guards":' + (Join-Json @(foreach ($Guard in $Guards) {
        '{"hive":' + (Get-Json $Guard.Hive) + ',"key":' + (Get-Json $Guard.Key) + ',"name":' + (Get-Json $Guard.Name) + '}'
    })) + ",`n" +
    '"gaps":' + (Join-Json $GapLines) + ",`n" +
    '"packages":' + $(if ($null -eq $Packages) { 'null' } else { Join-Json $PackageLines }) + ",`n" +
    '"provisioned":' + $(if ($null -eq $ProvisionedLines) { 'null' } else { Join-Json $ProvisionedLines }) + ",`n" +
    '"registry":' + (Join-Json $HiveLines) + ",`n" +
    '"files":' + (Join-Json @($FileLines | Where-Object { $_ })) + ",`n" +
    '"states":' + (Join-Json $StateLines) + ",`n" +
    '"commands":' + (Join-Json $CommandLines) + ",`n" +
    '"names":' + (Join-Json $NameLines) + "}`n"
$Name = 'survey-' + ($Computer -creplace '[^A-Za-z0-9-]', '_') + '.json'
$Path = $To.TrimEnd('\') + '\' + $Name
try {
    Set-Content -LiteralPath ($Path + '.part') -Value $Survey -Encoding Ascii -NoNewline
    Move-Item -LiteralPath ($Path + '.part') -Destination $Path -Force
}
catch {
    Write-Output ('survey: ' + $Path + ' could not be written: ' + $_.Exception.Message)
    exit 1
}
if ($Gaps.Count -eq 0) {
    Write-Output ('survey: ' + $Path + ' holds ' + [string]@($PackageLines).Count + ' packages and ' + [string]$Profiles.Count + ' accounts.')
    exit 0
}
Write-Output ('survey: ' + $Path + ' holds ' + [string]@($PackageLines).Count + ' packages and ' + [string]$Profiles.Count + ' accounts, with ' +
    [string]$Gaps.Count + ' gaps, which it names.')
exit 3
