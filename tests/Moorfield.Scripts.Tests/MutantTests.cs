namespace Moorfield.Scripts.Tests;

/// <summary>Spoils the fixed code of the scripts in one place at a time: the scenario that is about it must fail then.</summary>
public sealed class MutantTests
{
    [Theory]
    [InlineData("lost -AllUsers of a removal", nameof(Scenarios.What_is_not_provisioned_goes_and_what_is_not_there_is_blocked),
        "Remove-AppxPackage -Package $Package.FullName -AllUsers", "Remove-AppxPackage -Package $Package.FullName")]
    [InlineData("-AllUsers although only some are meant", nameof(Scenarios.One_account_loses_it_and_nobody_else),
        "$Everyone = $All -and $Wanted.Newcomers", "$Everyone = $true")]
    [InlineData("the wrong user", nameof(Scenarios.All_accounts_lose_it_and_newcomers_still_get_it),
        "Remove-AppxPackage -Package $Package.FullName -User $Sid", "Remove-AppxPackage -Package $Package.FullName -User $Sids[0]")]
    [InlineData("a parameter that there is not", nameof(Scenarios.Everyone_loses_it_and_a_second_run_does_nothing),
        "-PackageName $Entry.FullName -AllUsers", "-PackageFullName $Entry.FullName -AllUsers")]
    [InlineData("deprovisioned for all accounts always", nameof(Scenarios.Newcomers_do_not_get_it_and_accounts_keep_it),
        "if ($All -and $DeprovisionsForAll)", "if ($true)")]
    [InlineData("provisioning is forgotten", nameof(Scenarios.Newcomers_do_not_get_it_and_accounts_keep_it),
        "foreach ($Entry in $Look.Provisioned) {", "foreach ($Entry in @()) {")]
    [InlineData("guards of accounts in the machine's hive", nameof(Scenarios.Everyone_loses_it_and_a_second_run_does_nothing),
        "$Root = $(if ($Entry.Who) { Open-Hive $Entry.Who } else { $MachineRoot })", "$Root = $MachineRoot")]
    [InlineData("new accounts are forgotten", nameof(Scenarios.Everyone_loses_it_and_a_second_run_does_nothing),
        "if ($Wanted.Newcomers) { @{ Sid = ''", "if ($false) { @{ Sid = ''")]
    [InlineData("hives stay mounted", nameof(Scenarios.Everyone_loses_it_and_a_second_run_does_nothing),
        "$null = reg.exe unload ('HKU\\' + $Name) 2>$null", "$null = 0")]
    [InlineData("a swallowed failure", nameof(Scenarios.A_failure_is_told_with_its_code_and_the_rest_is_done),
        "$Failures[$Title + ' could not be removed: ' + (Get-CodeText $Code)] = $Failures.Count + 10", "return $false")]
    [InlineData("nothing is tried again", nameof(Scenarios.What_is_in_use_is_tried_once_more),
        "$PassingCodes -contains $Code) { return $true }", "$PassingCodes -contains $Code) { return $false }")]
    [InlineData("no second look", nameof(Scenarios.What_only_seems_to_go_is_no_success),
        "$End = Get-Look", "$End = @{ Registered = @(); Drift = @() }")]
    [InlineData("what never goes is a failure", nameof(Scenarios.What_never_goes_is_told_and_is_no_drift),
        "if ($LastingCodes -contains $Code) {", "if ($false) {")]
    [InlineData("what never goes is drift", nameof(Scenarios.What_never_goes_is_told_and_is_no_drift),
        "if ($LastingFamilies -contains $Item.Family)", "if ($false)")]
    [InlineData("parts of Windows are taken", nameof(Scenarios.What_is_part_of_Windows_or_needed_or_kept_stays),
        "if (-not $Item.Part -and @($Own", "if ($false -and @($Own")]
    [InlineData("what is needed is taken", nameof(Scenarios.What_is_part_of_Windows_or_needed_or_kept_stays),
        "-and $Needing.Count -gt 0) {", "-and $false) {")]
    [InlineData("what is kept is taken", nameof(Scenarios.What_is_part_of_Windows_or_needed_or_kept_stays),
        "$Going = @($Wanted.Remove | Where-Object { $_ -and $Keep -cnotcontains $_.Family", "$Going = @($Wanted.Remove | Where-Object { $_")]
    [InlineData("a block that nobody asked for", nameof(Scenarios.Where_it_may_return_no_block_stays),
        "Remove-Item -LiteralPath ($Store + '\\Deprovisioned\\' + $Family) -Recurse\r\n        }\r\n    }\r\n    catch { if (Add-Failure",
            "$null = 0\r\n        }\r\n    }\r\n    catch { if (Add-Failure")]
    [InlineData("a block that was there before goes", nameof(Scenarios.A_block_that_was_there_before_stays_even_where_none_is_planned),
        "if (-not $WasBlocked -and $Blocked", "if ($Blocked")]
    [InlineData("the sign of numbers that are written", nameof(Scenarios.Numbers_of_32_bits_are_written_and_read_whatever_their_first_bit),
        "-and [long]$Data -gt 2147483647)", "-and $false)")]
    [InlineData("the sign of numbers that are read", nameof(Scenarios.Numbers_of_32_bits_are_written_and_read_whatever_their_first_bit),
        "if ($Number -lt 0) { $Number += 4294967296 }", "")]
    [InlineData("a guard is recorded again", nameof(Scenarios.What_a_guard_took_the_place_of_is_recorded_once),
        "if ($Known.Count -eq 0) { Add-Record 'Guards'", "if ($true) { Add-Record 'Guards'")]
    [InlineData("no blocks", nameof(Scenarios.What_is_not_provisioned_goes_and_what_is_not_there_is_blocked),
        "Add-Key ($Store + '\\Deprovisioned\\' + $Family)", "$null = 0")]
    [InlineData("undo lifts others' blocks", nameof(Scenarios.Undo_lifts_only_its_own),
        "Get-Value $Record 'Blocks' | Where-Object { $_ -and $Blocked -contains $_", "$Blocked | Where-Object { $_")]
    [InlineData("undo lifts others' guards", nameof(Scenarios.Undo_lifts_only_its_own),
        "if ($Mark.Count -eq 0) { continue }", "if ($Mark.Count -eq 0) { $Mark = @($Start) }")]
    [InlineData("undo takes away what others set since", nameof(Scenarios.Undo_lifts_only_its_own),
        "if (Test-Guard $Root $Guard) {\r\n                $Was", "if ($true) {\r\n                $Was")]
    [InlineData("undo forgets what was there", nameof(Scenarios.Undo_lifts_only_its_own),
        "if ($Was.StartsWith('|DWord|'))", "if ($false)")]
    [InlineData("rights are not looked at", nameof(Scenarios.Without_rights_nothing_is_done),
        "if (-not (Test-Administrator)) {", "if ($false) {")]
    [InlineData("a required restore point is not", nameof(Scenarios.A_restore_point_is_told_truthfully),
        "if ($RestorePoint -ceq 'require' -and", "if ($false -and")]
    [InlineData("a restore point is claimed", nameof(Scenarios.A_restore_point_is_told_truthfully),
        "if ($After.Count -gt 0 -and ($Before.Count -eq 0 -or $After[0].Number -gt $Before[0].Number)) { return 'made' }", "return 'made'")]
    [InlineData("not known is taken for none", nameof(Scenarios.What_cannot_be_known_is_said),
        "if ($null -eq $Provisioned) { Add-Unknown 'which packages are provisioned'; $Look.Failed = $true; $Provisioned = @() }",
            "if ($null -eq $Provisioned) { $Provisioned = @() }")]
    [InlineData("no packages are taken for none", nameof(Scenarios.What_cannot_be_known_is_said),
        "if (@($Packages).Count -eq 0) { Add-Unknown 'which packages there are'; $Look.Failed = $true }", "")]
    [InlineData("undo gives back what stayed", nameof(Scenarios.A_failure_is_told_with_its_code_and_the_rest_is_done),
        "if ($Stayed.Count -gt 0 -and", "if ($false -and")]
    [InlineData("hives that cannot be read are in order", nameof(Scenarios.What_cannot_be_known_is_said),
        "{ Add-Unknown ('the guards of ' + $Who.Name) }", "{ }")]
    [InlineData("no time limit", nameof(Scenarios.Past_the_time_limit_nothing_is_begun),
        "if ([datetime]::UtcNow -lt $Deadline) { return $true }", "return $true")]
    [InlineData("the loud command of a program", nameof(Scenarios.Desktop_programs_are_removed_only_by_their_own_safe_silent_command),
        "'QuietUninstallString')\r\n    $Match", "'UninstallString')\r\n    $Match")]
    [InlineData("commands from anywhere", nameof(Scenarios.Desktop_programs_are_removed_only_by_their_own_safe_silent_command),
        "if (-not $IsSafe) {", "if ($false) {")]
    [InlineData("a damaged list counts", nameof(Scenarios.A_fetched_list_decides_and_the_last_good_one_is_kept),
        "if ($First -cne ('moorfield.list/1 sha256:' + $Digest)) { return $null }", "")]
    [InlineData("the last good list is not kept", nameof(Scenarios.A_fetched_list_decides_and_the_last_good_one_is_kept),
        "Set-Value $ListRecord 'Body' 'String' $Lines[1]", "$null = 0")]
    [InlineData("detection says that all is well", nameof(Scenarios.One_account_loses_it_and_nobody_else),
        "if ($Look.Drift.Count -gt 0) {\r\n    Write-Last ('drift", "if ($false) {\r\n    Write-Last ('drift")]
    public void A_spoilt_script_fails_a_scenario(string what, string scenario, string code, string spoilt)
    {
        bool found = false;
        using var scenarios = new Scenarios(text =>
        {
            found |= text.Contains(code, StringComparison.Ordinal);
            return text.Replace(code, spoilt, StringComparison.Ordinal);
        });
        var failure = Record.Exception(() => Scenarios.All[scenario](scenarios));
        found.ShouldBeTrue($"{what}: the code is not there any more.");
        failure.ShouldBeAssignableTo<ShouldAssertException>($"No scenario notices it: {what}.");
    }
}
