# Tests on this computer what the scripts of a hand-over take for granted, prints a line for each, and writes check-COMPUTER.json to send back.
# It changes nothing, but for a registry file of its own in a temporary folder of its own, which it mounts, unmounts and deletes.
#
#     powershell.exe -NoProfile -ExecutionPolicy Bypass -File check-machine.ps1 [-To FOLDER]
#
# Run it as administrator or as SYSTEM, in Windows' own shell (5.1). Exit codes: 0 all is as expected, 3 the lines with "no" say what is not.
# Moorfield runs this script in its tests against a made-up machine. It was never run on Windows by its makers.

param([string]$To = '.')

$ErrorActionPreference = 'Stop'
$ProgressPreference = 'SilentlyContinue'
$WarningPreference = 'SilentlyContinue'
$Reg = $env:SystemRoot + '\System32\reg.exe'
$Software = 'HKEY_LOCAL_MACHINE\SOFTWARE\'
$Profiles = $Software + 'Microsoft\Windows NT\CurrentVersion\ProfileList'
$Lines = @()
$Wrong = 0

function Get-Json([string]$Text) {
    $Text = $Text.Replace('\', '\\').Replace('"', '\"')
    $Codes = @{}
    foreach ($Match in [regex]::Matches($Text, '[^ -~]')) { $Codes[[int][char]$Match.Value] = $true }
    foreach ($Code in $Codes.Keys) { $Text = $Text.Replace([string][char]$Code, ('\u{0:x4}' -f $Code)) }
    '"' + $Text + '"'
}

# A line of what was looked at: whether it is as expected, and what was seen.
function Add-Line([string]$Name, [bool]$IsSo, [string]$Seen) {
    if (-not $IsSo) { $script:Wrong += 1 }
    $script:Lines += '{"name":' + (Get-Json $Name) + ',"asExpected":' + $(if ($IsSo) { 'true' } else { 'false' }) + ',"seen":' + (Get-Json $Seen) + '}'
    Write-Output ($(if ($IsSo) { 'yes  ' } else { 'no   ' }) + $Name + ': ' + ($Seen -creplace '[^ -~]', '?'))
}

function Invoke-Reg($Words) {
    $ErrorActionPreference = 'SilentlyContinue'
    & $Reg @Words 2>$null
}

# What the system's program prints of a value, from its kind on.
function Get-Printed([string]$Key, [string]$Name) {
    foreach ($Line in @(Invoke-Reg @('query', $Key, '/v', $Name))) {
        $Match = [regex]::Match([string]$Line, '^    .*?    (REG_[A-Z_]+)(?:    (.*))?$')
        if ($Match.Success) { return [string]$Match.Groups[1].Value + ' ' + [string]$Match.Groups[2].Value }
    }
    'nothing'
}

$Version = [string]$PSVersionTable.PSVersion
Add-Line 'the shell is 5.1, of 64 bits' ($Version -clike '5.1*' -and -not $env:PROCESSOR_ARCHITEW6432) ($Version + ', ' + [string]$ExecutionContext.SessionState.LanguageMode)
Add-Line 'it runs as administrator or as SYSTEM' (@(Get-ChildItem -LiteralPath 'Registry::HKEY_USERS\S-1-5-19' -ErrorAction SilentlyContinue).Count -gt 0) ''
foreach ($One in @(
    @('Get-AppxPackage', 'AllUsers Name PackageTypeFilter'), @('Remove-AppxPackage', 'Package AllUsers User'),
    @('Add-AppxPackage', 'Register Path DisableDevelopmentMode'), @('Get-AppxProvisionedPackage', 'Online'),
    @('Remove-AppxProvisionedPackage', 'Online PackageName AllUsers'), @('Checkpoint-Computer', 'Description RestorePointType'),
    @('Get-ComputerRestorePoint', ''), @('Register-ScheduledTask', 'TaskPath TaskName Xml Force'), @('Get-ScheduledTask', 'TaskPath TaskName'),
    @('Start-ScheduledTask', 'TaskPath TaskName'),
    @('Unregister-ScheduledTask', 'TaskPath TaskName Confirm'), @('New-EventLog', 'LogName Source'), @('Write-EventLog', 'LogName Source EventId EntryType Message'),
    @('Get-Acl', 'LiteralPath'), @('Get-FileHash', 'LiteralPath Algorithm'), @('Invoke-WebRequest', 'Uri OutFile UseBasicParsing TimeoutSec MaximumRedirection Proxy')
)) {
    $Has = @(Get-Command $One[0] -ErrorAction SilentlyContinue | ForEach-Object { $_.Parameters.Keys })
    $Missing = @($One[1].Split(' ') | Where-Object { $_ -and $Has -notcontains $_ })
    Add-Line ($One[0] + ' has the parameters that are used') ($Has.Count -gt 0 -and $Missing.Count -eq 0) $(if ($Missing.Count -gt 0) { 'without ' + ($Missing -join ' ') } else { '' })
}

# Values as they stand.
$Shown = [string](Get-ItemProperty -LiteralPath ('Registry::' + $Profiles) -ErrorAction SilentlyContinue).ProfilesDirectory
$Printed = Get-Printed $Profiles 'ProfilesDirectory'
Add-Line 'the shell expands a text with variables' ($Shown -and $Shown -notmatch '%') $Shown
Add-Line 'reg.exe prints it with its kind as it stands' ($Printed -clike 'REG_EXPAND_SZ *%*') $Printed

# A registry file of its own.
$Folder = $env:SystemRoot + '\Temp\moorfield-' + [guid]::NewGuid().ToString()
$null = New-Item -Path $Folder -ItemType Directory
try {
    $null = Invoke-Reg @('save', 'HKLM\SYSTEM\CurrentControlSet\Control\ComputerName', ($Folder + '\hive'), '/y')
    $null = Invoke-Reg @('load', 'HKU\Moorfield_Check', ($Folder + '\hive'))
    Add-Line 'a registry file is mounted' ($LASTEXITCODE -eq 0) ('reg.exe load ended with ' + [string]$LASTEXITCODE)
    foreach ($One in @(@('REG_EXPAND_SZ', '%SystemRoot%\x'), @('REG_DWORD', '0x80000001'), @('REG_QWORD', '0x12a05f200'), @('REG_MULTI_SZ', 'one\0two'), @('REG_BINARY', '00FF'))) {
        $null = Invoke-Reg @('add', 'HKU\Moorfield_Check\Moorfield', '/v', 'Value', '/t', $One[0], '/d', $One[1], '/f')
        $Printed = Get-Printed 'HKEY_USERS\Moorfield_Check\Moorfield' 'Value'
        Add-Line ('a value of the kind ' + $One[0] + ' comes back as it was written') ($Printed -ceq ($One[0] + ' ' + $One[1])) $Printed
    }
    $null = Invoke-Reg @('unload', 'HKU\Moorfield_Check')
    Add-Line 'it is unmounted at the first try' ($LASTEXITCODE -eq 0) ('reg.exe unload ended with ' + [string]$LASTEXITCODE)
}
finally { Remove-Item -LiteralPath $Folder -Recurse -Force -ErrorAction SilentlyContinue }

# Packages, and the states of those who have them.
$Packages = @()
try { $Packages = @(Get-AppxPackage -AllUsers -PackageTypeFilter 'Main,Framework,Resource,Bundle,Optional') } catch { $Packages = @() }
Add-Line 'the packages of all users are listed' ($Packages.Count -gt 0) ([string]$Packages.Count)
$States = @{}
foreach ($Package in $Packages) {
    foreach ($User in $Package.PackageUserInformation) { $States[[string]$User.InstallState] = [string]@($User.InstallState.PSObject.TypeNames)[0] }
}
foreach ($State in @($States.Keys | Sort-Object)) {
    Add-Line 'an install state is one that is known' ($State -match '^(Staged|NotInstalled|Installed|0|1|2)$|pending *removal') ($State + ' of the type ' + $States[$State])
}
$Names = @()
try { $Names = @(Get-AppxProvisionedPackage -Online | ForEach-Object { [string]$_.PackageName }) } catch { $Names = @() }
$Odd = @($Names | Where-Object { $_ -cnotmatch '^[^_]+_[0-9.]+_[^_]*_[^_]*_[a-hj-km-np-tv-z0-9]{13}$' })
Add-Line 'names of provisioned packages are full names' ($Names.Count -gt 0 -and $Odd.Count -eq 0) ([string]$Names.Count + $(if ($Odd.Count -gt 0) { ', such as ' + $Odd[0] } else { '' }))
$Rights = [string](Get-Acl -LiteralPath $env:ProgramFiles).Sddl
Add-Line 'the rights of the folder of programs are read' ($Rights -cmatch '\(A;[A-Z]*;[^;]+;[^;]*;[^;]*;BU\)') $Rights

$Computer = [string](Get-ItemProperty -LiteralPath 'Registry::HKEY_LOCAL_MACHINE\SYSTEM\CurrentControlSet\Control\ComputerName\ComputerName' -ErrorAction SilentlyContinue).ComputerName
$Path = $To.TrimEnd('\') + '\check-' + ($Computer -creplace '[^A-Za-z0-9-]', '_') + '.json'
Set-Content -LiteralPath $Path -Value ('{"schema":"moorfield.machine-check/1","build":' + (Get-Json (Get-Printed ($Software + 'Microsoft\Windows NT\CurrentVersion') 'CurrentBuild')) +
    ",`"lines`":[`n" + ($Lines -join ",`n") + "]}") -Encoding Ascii
Write-Output ('moorfield: ' + $(if ($Wrong -eq 0) { 'all is as expected' } else { [string]$Wrong + ' of ' + [string]$Lines.Count + ' are not as expected' }) + '; ' + $Path)
exit $(if ($Wrong -eq 0) { 0 } else { 3 })
