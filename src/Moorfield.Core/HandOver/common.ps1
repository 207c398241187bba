# ---- Code: the same in every hand-over ------------------------------------------------------------------------------

$ErrorActionPreference = 'Stop'
$ProgressPreference = 'SilentlyContinue'
$WarningPreference = 'SilentlyContinue'
$ConfirmPreference = 'None'
$MachineRoot = 'Registry::HKEY_LOCAL_MACHINE\SOFTWARE\'
$Record = $MachineRoot + 'Moorfield\HandOver\' + $PlanId
$ListRecord = $MachineRoot + 'Moorfield\List\' + $PlanId
$Told = @{}
$Unknown = @{}

# Run as a 32-bit process, it would see another registry than the system's own: the 64-bit shell does it instead.
if ($env:PROCESSOR_ARCHITEW6432) {
    $Native = $env:SystemRoot + '\SysNative\WindowsPowerShell\v1.0\powershell.exe'
    if (Test-Path -LiteralPath $Native) {
        $Arguments = '-NoProfile -ExecutionPolicy Bypass -File "' + $PSCommandPath + '"'
        $Again = Start-Process -FilePath $Native -ArgumentList $Arguments -NoNewWindow -Wait -PassThru
        exit $Again.ExitCode
    }
}

# Windows\Logs is a folder that only administrators write.
function Start-Log([string]$Name) {
    try {
        $Folder = $env:SystemRoot + '\Logs\Moorfield'
        if (-not (Test-Path -LiteralPath $Folder)) { $null = New-Item -Path $Folder -ItemType Directory }
        $Folder + '\' + $Name + '-' + $PlanId + '.log'
    }
    catch { '' }
}

function Write-Log([string]$Text) {
    if (-not $LogPath) { return }
    $Line = [datetime]::UtcNow.ToString('s', [cultureinfo]::InvariantCulture) + 'Z ' + (Get-Plain $Text)
    try { Add-Content -LiteralPath $LogPath -Value $Line -Encoding Ascii } catch { return }
}

function Get-Plain([string]$Text) { $Text -creplace '[^ -~]', '?' }

# The last word of a script: one line, the gravest first, short enough for a management service to keep.
function Write-Last([string]$Text) {
    $Line = Get-Plain ('moorfield: ' + $Text)
    if ($Line.Length -gt 1900) { $Line = $Line.Substring(0, 1880) + '... (see the log)' }
    Write-Log $Line
    Write-Output $Line
}

# The code that a failure carries, such as 0x80073CFA. Its text is in the machine's language, and is never compared.
function Get-Code($Failure) {
    $Found = [regex]::Matches([string]$Failure.Exception.Message, '0x[0-9A-Fa-f]{8}')
    if ($Found.Count -gt 0) { return '0x' + ([string]$Found[0].Value).Substring(2).ToUpperInvariant() }
    '0x{0:X8}' -f [int]$Failure.Exception.HResult
}

$CodeTexts = @{
    '0x80073CFA' = 'the system does not let it go'
    '0x80070032' = 'it is part of Windows'
    '0x80073D19' = 'a user was signed off'
    '0x80073CF1' = 'it is not there'
    '0x80073CF3' = 'something depends on it'
    '0x80073D02' = 'it is in use'
    '0x80073D01' = 'a policy forbids it'
    '0x80070002' = 'it is not provisioned'
    '0x80070003' = 'it is not provisioned'
    '0x80070005' = 'access was denied'
}

# Those that may pass by themselves: tried once more at the end.
$PassingCodes = @('0x80073D02', '0x80073D19')

# Those that the system never lets go: told, and no failure.
$LastingCodes = @('0x80073CFA', '0x80070032')

# Those that only say that there is nothing to do.
$GoneCodes = @('0x80073CF1', '0x80070002', '0x80070003')

function Get-CodeText([string]$Code) {
    if ($CodeTexts[$Code]) { $CodeTexts[$Code] + ' (' + $Code + ')' } else { 'failed with ' + $Code }
}

function Add-Told([string]$Text) {
    if (-not $Told[$Text]) {
        $Told[$Text] = $Told.Count + 1
        Write-Log ('told: ' + $Text)
    }
}

function Add-Unknown([string]$Text) {
    if (-not $Unknown[$Text]) {
        $Unknown[$Text] = $Unknown.Count + 1
        Write-Log ('not known: ' + $Text)
    }
}

function Get-Ordered($Table) { @($Table.Keys | Sort-Object { $Table[$_] }) }

function Test-Family([string]$Family) { $Family -cmatch '^[A-Za-z0-9.-]{1,50}_[a-hj-km-np-tv-z0-9]{13}$' }

# Keys are made by a command that knows wildcards: none may be in them.
function Test-KeyPath([string]$Key) { $Key -and $Key -cnotmatch '[*?\[\]\x00-\x1f/]' -and $Key -cnotmatch '(^|\\)(\\|$)' }

function Get-SubKeys([string]$Path) {
    @(Get-ChildItem -LiteralPath $Path -ErrorAction SilentlyContinue | ForEach-Object { $_.PSChildName })
}

function Get-Value([string]$Path, [string]$Name) {
    $Shown = $(if ($Name) { $Name } else { '(default)' })
    (Get-ItemProperty -LiteralPath $Path -ErrorAction SilentlyContinue).$Shown
}

# Makes a key and those above it; one that is there stays as it is.
function Add-Key([string]$Path) {
    $Start = $Path.IndexOf('\', $Path.IndexOf('\') + 1)
    if ($Start -lt 0) { $Start = $Path.Length }
    while ($Start -le $Path.Length) {
        $Part = $Path.Substring(0, $Start)
        if (-not (Test-Path -LiteralPath $Part)) { $null = New-Item -Path $Part }
        if ($Start -eq $Path.Length) { return }
        $Start = $Path.IndexOf('\', $Start + 1)
        if ($Start -lt 0) { $Start = $Path.Length }
    }
}

function Set-Value([string]$Path, [string]$Name, [string]$Kind, $Data) {
    $Shown = $(if ($Name) { $Name } else { '(default)' })
    $null = New-ItemProperty -LiteralPath $Path -Name $Shown -PropertyType $Kind -Value $Data -Force
}

# Adds to a list in the record of what was done here: it lies where only administrators write.
function Add-Record([string]$Name, [string]$Text) {
    Add-Key $Record
    $Before = @(Get-Value $Record $Name | Where-Object { $_ })
    if ($Before -cnotcontains $Text) { Set-Value $Record $Name 'MultiString' ([string[]]@($Before + $Text)) }
}

# ---- Whom it is for ----

$Profiles = @(foreach ($Sid in (Get-SubKeys ($MachineRoot + 'Microsoft\Windows NT\CurrentVersion\ProfileList'))) {
    if ($Sid -notmatch '^S-1-(5-21|12-1)-[0-9-]+$') { continue }
    $Folder = [string](Get-Value ($MachineRoot + 'Microsoft\Windows NT\CurrentVersion\ProfileList\' + $Sid) 'ProfileImagePath')
    if ($Folder) { @{ Sid = $Sid; Folder = $Folder.TrimEnd('\'); Name = $Folder.TrimEnd('\').Substring($Folder.TrimEnd('\').LastIndexOf('\') + 1) } }
})

# ---- What is wanted: as written above, or as a list says that is fetched ----

# A fetched list: one line with the digest of the other, which is data in JSON. Nothing of it is ever evaluated.
function Get-List([string]$First, [string]$Body, [string]$Digest) {
    if ($First -cne ('moorfield.list/1 sha256:' + $Digest)) { return $null }
    try { $List = ConvertFrom-Json $Body } catch { return $null }
    $Found = @{ Accounts = @(); Newcomers = $false; Remove = @(); Keep = @(); Block = @(); Guards = @() }
    foreach ($Word in @($List.for)) {
        if ($Word -eq 'everyone') { $Found.Accounts = @('*'); $Found.Newcomers = $true }
        elseif ($Word -eq 'accounts') { $Found.Accounts = @('*') }
        elseif ($Word -eq 'newcomers') { $Found.Newcomers = $true }
        elseif ($Word) { $Found.Accounts += [string]$Word }
    }
    foreach ($Item in @($List.remove)) {
        if ($null -eq $Item) { continue }
        if (-not (Test-Family $Item.family)) { return $null }
        $Found.Remove += @{ Family = [string]$Item.family; Title = [string]$Item.title; Part = [bool]$Item.part }
    }
    foreach ($Name in @('Keep', 'Block')) {
        foreach ($Family in @($List.$Name)) {
            if ($null -eq $Family) { continue }
            if (-not (Test-Family $Family)) { return $null }
            $Found[$Name] += [string]$Family
        }
    }
    foreach ($Guard in @($List.guards)) {
        if ($null -eq $Guard) { continue }
        if (@('Machine', 'Account') -cnotcontains $Guard.hive -or -not (Test-KeyPath $Guard.key)) { return $null }
        if (@('DWord', 'QWord', 'String', 'ExpandString', 'MultiString') -cnotcontains $Guard.kind) { return $null }
        $Found.Guards += @{
            Hive = [string]$Guard.hive; Key = [string]$Guard.key; Name = [string]$Guard.name; Kind = [string]$Guard.kind; Data = $Guard.data
        }
    }
    $Found
}

# The list as it is at its address; the last good one when that fails; what is written above until there was one.
function Get-Fetched() {
    $Lines = $null
    $Temporary = $env:SystemRoot + '\Logs\Moorfield\list-' + $PlanId
    try {
        if ($ListUrl -cnotmatch '^https://') { return $null }
        Invoke-WebRequest -Uri $ListUrl -OutFile ($Temporary + '.part') -UseBasicParsing -TimeoutSec 60 -MaximumRedirection 0
        $Lines = @(Get-Content -LiteralPath ($Temporary + '.part') -Encoding Ascii)
    }
    catch { Write-Log ('the list could not be fetched: ' + $_.Exception.Message) }
    $List = $null
    if ($Lines.Count -eq 2) {
        Set-Content -LiteralPath ($Temporary + '.body') -Value $Lines[1] -Encoding Ascii -NoNewline
        $Digest = (Get-FileHash -LiteralPath ($Temporary + '.body') -Algorithm SHA256).Hash.ToLowerInvariant()
        $List = Get-List $Lines[0] $Lines[1] $Digest
        if ($List -and $Kind -ceq 'remediate') {
            Add-Key $ListRecord
            Set-Value $ListRecord 'First' 'String' $Lines[0]
            Set-Value $ListRecord 'Body' 'String' $Lines[1]
        }
    }
    foreach ($End in @('.part', '.body')) { Remove-Item -LiteralPath ($Temporary + $End) -Force -ErrorAction SilentlyContinue }
    if ($List) { return $List }
    $First = [string](Get-Value $ListRecord 'First')
    $Body = [string](Get-Value $ListRecord 'Body')
    if ($First -and $Body) {
        $List = Get-List $First $Body ($First -creplace '^.*sha256:', '')
        if ($List) { Add-Told 'the list could not be fetched or was damaged: the last good one is used'; return $List }
    }
    Add-Told 'the list could not be fetched or was damaged, and there is none from before: what the script itself holds is used'
    $null
}

$LogPath = Start-Log $Kind
$Wanted = $null
if ($ListUrl) { $Wanted = Get-Fetched }
if (-not $Wanted) { $Wanted = @{ Accounts = $Accounts; Newcomers = $Newcomers; Remove = $Remove; Keep = @(); Block = $Block; Guards = $Guards } }
$Going = @($Wanted.Remove | Where-Object { $_ -and $Keep -cnotcontains $_.Family -and $Wanted.Keep -cnotcontains $_.Family })
$Blocked = @($Wanted.Block | Where-Object { $_ -and $Keep -cnotcontains $_ -and $Wanted.Keep -cnotcontains $_ })
$All = $Wanted.Accounts -ccontains '*'
$People = @($Profiles | Where-Object { $All -or $Wanted.Accounts -contains $_.Name -or $Wanted.Accounts -contains $_.Sid })
$Sids = @($People | ForEach-Object { $_.Sid })
$Store = $MachineRoot + 'Microsoft\Windows\CurrentVersion\Appx\AppxAllUserStore'

# ---- Hives of accounts ----

# The registry of an account, or of new accounts: where it is mounted, mounted for the time being, or nothing.
function Open-Hive($Who) {
    $Root = 'Registry::HKEY_USERS\' + $Who.Sid + '\'
    if ($Who.Sid -and (Test-Path -LiteralPath $Root)) { return $Root }
    $Name = 'Moorfield_' + $(if ($Who.Sid) { $Who.Sid } else { 'Default' })
    $File = $Who.Folder + '\NTUSER.DAT'
    if (-not (Test-Path -LiteralPath $File)) { return '' }
    $ErrorActionPreference = 'SilentlyContinue'
    $null = reg.exe load ('HKU\' + $Name) $File 2>$null
    if ($LASTEXITCODE -eq 0) { 'Registry::HKEY_USERS\' + $Name + '\' } else { '' }
}

function Close-Hive([string]$Root) {
    $Name = $Root.Substring($Root.IndexOf('\') + 1).TrimEnd('\')
    if (-not $Name.StartsWith('Moorfield_')) { return }
    $ErrorActionPreference = 'SilentlyContinue'
    foreach ($Try in 1..5) {
        # The shell keeps keys open that it has read until it tidies up.
        if ($ExecutionContext.SessionState.LanguageMode -eq 'FullLanguage') { [gc]::Collect(); [gc]::WaitForPendingFinalizers() }
        $null = reg.exe unload ('HKU\' + $Name) 2>$null
        if ($LASTEXITCODE -eq 0) { return }
        Start-Sleep -Seconds 2
    }
    Add-Told ('the registry of ' + $Name + ' stays mounted until the next start')
}

function Test-Guard([string]$Root, $Guard) {
    $Now = Get-Value ($Root + $Guard.Key) $Guard.Name
    if ($null -eq $Now) { return $false }
    if ($Guard.Kind -ceq 'DWord') {
        if ($Now -isnot [int] -and $Now -isnot [uint32]) { return $false }
        $Number = [long]$Now
        if ($Number -lt 0) { $Number += 4294967296 }
        return $Number -eq [long]$Guard.Data
    }
    if ($Guard.Kind -ceq 'QWord') { return ($Now -is [long] -or $Now -is [uint64]) -and [string]$Now -ceq [string]$Guard.Data }
    if ($Guard.Kind -ceq 'MultiString') { return (@($Now) -join "`0") -ceq (@($Guard.Data) -join "`0") }
    $Now -is [string] -and $Now -ceq [string]$Guard.Data
}

# Whose hives the guards of accounts are for.
$GuardedPeople = @($People) + @(if ($Wanted.Newcomers) { @{ Sid = ''; Folder = 'C:\Users\Default'; Name = 'new accounts' } })

# ---- What is there ----

# All packages with those who have them; none when the system does not say: it always has some.
function Get-Packages() {
    $Found = $null
    foreach ($Filter in @('Main,Framework,Resource,Bundle,Optional', 'Main,Framework,Resource,Bundle')) {
        if ($null -ne $Found) { continue }
        try { $Found = @(Get-AppxPackage -AllUsers -PackageTypeFilter $Filter) }
        catch { Write-Log ('packages could not be listed: ' + $_.Exception.Message) }
    }
    foreach ($Package in $Found) {
        $Users = @(foreach ($User in $Package.PackageUserInformation) {
            if ([string]$User.InstallState -eq 'Installed') { [string]$User.UserSecurityId.Sid }
        })
        @{
            Family = [string]$Package.PackageFamilyName; FullName = [string]$Package.PackageFullName; Place = [string]$Package.InstallLocation
            IsBundle = [bool]$Package.IsBundle; IsFramework = [bool]$Package.IsFramework; IsResource = [bool]$Package.IsResourcePackage
            NonRemovable = [bool]$Package.NonRemovable; IsPart = [string]$Package.SignatureKind -eq 'System'; Users = $Users
            Needs = @($Package.Dependencies | ForEach-Object { [string]$_.PackageFamilyName })
        }
    }
}

# How the machine differs from what is wanted. Drift is what can be put right; the gravest first.
function Get-Look() {
    $Look = @{ Registered = @(); Provisioned = @(); Blocks = @(); Guards = @(); Classic = @(); Drift = @(); Failed = $false }
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
    if (@($Packages).Count -eq 0) { Add-Unknown 'which packages there are'; $Look.Failed = $true }
    $LastingFamilies = @(Get-Value $Record 'Lasting' | Where-Object { $_ })
    $GoingFamilies = @($Going | ForEach-Object { $_.Family })
    foreach ($Item in $Going) {
        $Own = @($Packages | Where-Object { $_.Family -eq $Item.Family -and -not $_.IsResource })
        $Having = @(foreach ($Sid in $Sids) { if (@($Own | Where-Object { $_.Users -contains $Sid }).Count -gt 0) { $Sid } })
        $Given = @($Provisioned | Where-Object { $_.Family -eq $Item.Family })
        if ($Having.Count -eq 0 -and $Given.Count -eq 0) { continue }
        if ($LastingFamilies -contains $Item.Family) { Add-Told ($Item.Title + ': ' + (Get-CodeText '0x80073CFA')); continue }
        # The same refusals as Moorfield's own.
        if (@($Own | Where-Object { $_.NonRemovable }).Count -gt 0) {
            Add-Told ($Item.Title + ' is part of Windows here, and the system does not let it go')
            continue
        }
        if (-not $Item.Part -and @($Own | Where-Object { $_.IsPart }).Count -gt 0) {
            Add-Told ($Item.Title + ' is part of Windows here, and stays')
            continue
        }
        $Needing = @($Packages | Where-Object {
            $_.Needs -contains $Item.Family -and $GoingFamilies -notcontains $_.Family -and $_.Users.Count -gt 0
        })
        if (@($Own | Where-Object { $_.IsFramework }).Count -gt 0 -and $Needing.Count -gt 0) {
            Add-Told ($Item.Title + ' stays: ' + $Needing[0].Family + ' needs it')
            continue
        }
        if ($Having.Count -gt 0) {
            $Look.Registered += @{ Item = $Item; Sids = $Having; Packages = $Own }
            $Look.Drift += $Item.Title + ' is there for ' + (Get-Count $Having.Count 'account')
        }
        foreach ($One in $Given) {
            $Look.Provisioned += @{ Item = $Item; FullName = $One.FullName }
            $Look.Drift += $Item.Title + ' is provisioned for new accounts'
        }
    }
    foreach ($Family in $Blocked) {
        if (-not (Test-Path -LiteralPath ($Store + '\Deprovisioned\' + $Family))) {
            $Look.Blocks += $Family
            $Look.Drift += $Family + ' is not blocked'
        }
    }
    foreach ($Guard in @($Wanted.Guards | Where-Object { $_.Hive -ceq 'Machine' })) {
        if (-not (Test-Guard $MachineRoot $Guard)) {
            $Look.Guards += @{ Guard = $Guard; Who = $null }
            $Look.Drift += 'the guard ' + $Guard.Name + ' is not set for the machine'
        }
    }
    $Own = @($Wanted.Guards | Where-Object { $_.Hive -ceq 'Account' })
    foreach ($Who in $(if ($Own.Count -gt 0) { $GuardedPeople } else { @() })) {
        $Root = Open-Hive $Who
        if (-not $Root) {
            if (Test-Path -LiteralPath ($Who.Folder + '\NTUSER.DAT')) { Add-Unknown ('the guards of ' + $Who.Name) }
            continue
        }
        foreach ($Guard in $Own) {
            if (-not (Test-Guard $Root $Guard)) {
                $Look.Guards += @{ Guard = $Guard; Who = $Who }
                $Look.Drift += 'the guard ' + $Guard.Name + ' is not set for ' + $Who.Name
            }
        }
        Close-Hive $Root
    }
    foreach ($Program in $Classic) {
        if (Test-Path -LiteralPath ($MachineRoot + $Program.Key)) {
            if (Get-Value ($MachineRoot + $Program.Key) 'QuietUninstallString') {
                $Look.Classic += $Program
                $Look.Drift += $Program.Title + ' is installed'
            }
            else { Add-Told ($Program.Title + ' has no quiet way to be removed, and stays') }
        }
    }
    $Look
}

function Join-Texts($Texts, [int]$Most) {
    $List = @($Texts)
    $Text = (@($List | Select-Object -First $Most) -join '; ')
    if ($List.Count -gt $Most) { $Text += '; and ' + [string]($List.Count - $Most) + ' more' }
    $Text
}

function Get-Count([int]$Count, [string]$One) { [string]$Count + ' ' + $One + $(if ($Count -eq 1) { '' } else { 's' }) }

function Test-Administrator() { @(Get-SubKeys 'Registry::HKEY_USERS\S-1-5-19').Count -gt 0 }
