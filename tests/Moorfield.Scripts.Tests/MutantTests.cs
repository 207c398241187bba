namespace Moorfield.Scripts.Tests;

/// <summary>Spoils the fixed code of the scripts in one place at a time: the scenario that is about it must fail then.</summary>
public sealed class MutantTests
{
    [Theory]
    [InlineData("lost -AllUsers of a removal", nameof(Scenarios.What_is_not_provisioned_goes_and_what_is_not_there_is_blocked),
        "Remove-AppxPackage -Package $Package.FullName -AllUsers", "Remove-AppxPackage -Package $Package.FullName")]
    [InlineData("-AllUsers although only some are meant", nameof(Scenarios.One_account_loses_it_and_nobody_else),
        "if ($All -and $Wanted.Newcomers -and $RemovesForAll) {", "if ($RemovesForAll) {")]
    [InlineData("the wrong user", nameof(AdverseScenarios.All_accounts_lose_it_and_newcomers_still_get_it),
        "Remove-AppxPackage -Package $Package.FullName -User $Sid", "Remove-AppxPackage -Package $Package.FullName -User $Sids[0]")]
    [InlineData("a parameter that there is not", nameof(Scenarios.Everyone_loses_it_and_a_second_run_does_nothing),
        "-PackageName $Entry.FullName -AllUsers", "-PackageFullName $Entry.FullName -AllUsers")]
    [InlineData("deprovisioned for all accounts always", nameof(Scenarios.Newcomers_do_not_get_it_and_accounts_keep_it),
        "if ($All -and $DeprovisionsForAll)", "if ($true)")]
    [InlineData("provisioning is forgotten", nameof(Scenarios.Newcomers_do_not_get_it_and_accounts_keep_it),
        "foreach ($Entry in @($Now.Provisioned | Where-Object {", "foreach ($Entry in @(@() | Where-Object {")]
    [InlineData("guards of accounts in the machine's hive", nameof(Scenarios.Everyone_loses_it_and_a_second_run_does_nothing),
        "$Root = $(if ($Who) { Open-Hive $Who } else { $Machine })\r\n        foreach", "$Root = $Machine\r\n        foreach")]
    [InlineData("new accounts are forgotten", nameof(Scenarios.Everyone_loses_it_and_a_second_run_does_nothing),
        "if ($Wanted.Newcomers) { $NewAccounts }", "if ($false) { $NewAccounts }")]
    [InlineData("hives stay mounted", nameof(Scenarios.Everyone_loses_it_and_a_second_run_does_nothing),
        "$null = Invoke-Reg @('unload',", "$null = @('unload',")]
    [InlineData("a swallowed failure", nameof(Scenarios.A_failure_is_told_with_its_code_and_the_rest_is_done),
        "Add-Failed ($Item.Title + ' could not be removed: ' + (Get-CodeText $Code)) 10", "$null = 0")]
    [InlineData("nothing is tried again", nameof(Scenarios.What_is_in_use_is_tried_once_more),
        "if ($Retried.Count -eq 0 -or -not (Test-Time)) { break }", "break")]
    [InlineData("no second look", nameof(Scenarios.What_only_seems_to_go_is_no_success),
        "$End = Get-Look $true", "$End = @{ Registered = @(); Provisioned = @(); Leaving = @{}; Drift = @() }")]
    [InlineData("what never goes is a failure", nameof(Scenarios.What_never_goes_is_told_and_is_no_drift),
        "if ($Codes -contains '0x80070032') {", "if ($false) {")]
    [InlineData("what never goes is drift", nameof(Scenarios.What_never_goes_is_told_and_is_no_drift),
        "if ($LastingFamilies -contains $Item.Family)", "if ($false)")]
    [InlineData("parts of Windows are taken", nameof(Scenarios.What_is_part_of_Windows_or_needed_or_kept_stays),
        "if (-not $Item.Part -and @($Own", "if ($false -and @($Own")]
    [InlineData("what is needed is taken", nameof(Scenarios.What_is_part_of_Windows_or_needed_or_kept_stays),
        "if ($Needing.Count -gt 0) {", "if ($false) {")]
    [InlineData("keeping rules are forgotten", nameof(Scenarios.What_nobody_looked_at_stays_and_is_told),
        "if (@($Fitting | Where-Object { $_.Keeps }).Count -gt 0) { continue }", "")]
    [InlineData("parts of Windows are told", nameof(Scenarios.What_nobody_looked_at_stays_and_is_told),
        "if ($App.IsFramework -or $App.IsResource -or $App.IsPart -or $App.NonRemovable", "if ($App.IsFramework -or $App.IsResource")]
    [InlineData("frameworks are told", nameof(Scenarios.What_nobody_looked_at_stays_and_is_told),
        "if ($App.IsFramework -or $App.IsResource", "if ($App.IsResource")]
    [InlineData("what stays by a survey is told", nameof(Scenarios.What_nobody_looked_at_stays_and_is_told), " + @($Stays.Family)", "")]
    [InlineData("what is blocked is told", nameof(Scenarios.What_nobody_looked_at_stays_and_is_told), " + @($Wanted.Block) + ", " + ")]
    [InlineData("what nobody has is told", nameof(Scenarios.What_nobody_looked_at_stays_and_is_told), "$_.Users.Count -gt 0 -or @($Provisioned",
        "$true -or @($Provisioned")]
    [InlineData("what is only provisioned is not told", nameof(Scenarios.What_nobody_looked_at_stays_and_is_told),
        "$_.Users.Count -gt 0 -or @($Provisioned | ForEach-Object { $_.Family }) -contains $_.Family", "$_.Users.Count -gt 0")]
    [InlineData("the case of a pattern", nameof(Scenarios.What_nobody_looked_at_stays_and_is_told),
        "'IgnoreCase, CultureInvariant'", "'CultureInvariant'")]
    [InlineData("what is kept goes along", nameof(Scenarios.What_would_take_along_one_that_is_kept_stays_where_that_is),
        "if ($With.Count -gt 0) {", "if ($false) {")]
    [InlineData("it stays everywhere", nameof(Scenarios.What_would_take_along_one_that_is_kept_stays_where_that_is),
        "($IsPartial -or @($Packages.Family) -contains $_.With)", "$true")]
    [InlineData("it stays for what goes along with another", nameof(Scenarios.What_would_take_along_one_that_is_kept_stays_where_that_is),
        "$_.With -and $_.Family -eq $Item.Family -and (", "$_.With -and (")]
    [InlineData("what is kept is taken", nameof(Scenarios.What_is_part_of_Windows_or_needed_or_kept_stays),
        "Where-Object { $_ -and $Kept -notcontains $_.Family })", "Where-Object { $_ })")]
    [InlineData("a block that nobody asked for", nameof(Scenarios.Where_it_may_return_no_block_stays),
        "(Test-Path -LiteralPath $Path)) { Remove-Item -LiteralPath $Path -Recurse }", "$false) { $null = 0 }")]
    [InlineData("a block that was there before goes", nameof(Scenarios.A_block_that_was_there_before_stays_even_where_none_is_planned),
        "if (-not $WasBlocked -and $Blocked", "if ($Blocked")]
    [InlineData("the sign of numbers that are written", nameof(Scenarios.Numbers_of_32_bits_are_written_and_read_whatever_their_first_bit),
        "if ($Kind -ceq 'DWord' -and [long]$Number -gt 4294967295) { return }",
            "if ($Kind -ceq 'DWord' -and [long]$Number -gt 2147483647) { return }")]
    [InlineData("the sign of numbers that are read", nameof(Scenarios.Numbers_of_32_bits_are_written_and_read_whatever_their_first_bit),
        "REG_DWORD = 'DWord'", "REG_DWORD = 'QWord'")]
    [InlineData("a guard is recorded again", nameof(Scenarios.What_a_guard_took_the_place_of_is_recorded_once),
        "if ($Was.Count -ne 4) {", "if ($true) {")]
    [InlineData("no blocks", nameof(Scenarios.What_is_not_provisioned_goes_and_what_is_not_there_is_blocked),
        "Add-Key ($Store + '\\Deprovisioned\\' + $Family)", "$null = 0")]
    [InlineData("undo lifts others' blocks", nameof(Scenarios.Undo_lifts_only_its_own),
        "foreach ($Family in @(Get-List 'Blocks' | Where-Object { Test-Family $_ })) {", "foreach ($Family in $Block) {")]
    [InlineData("undo lifts others' guards", nameof(Scenarios.Undo_lifts_only_its_own),
        "foreach ($Mark in @(Get-Marks)) {\r\n    if (-not",
            "foreach ($Mark in @($Guards | ForEach-Object { 'Machine|' + $_.Key + '|' + $_.Name })) {\r\n    if (-not")]
    [InlineData("undo takes away what others set since", nameof(Scenarios.Undo_lifts_only_its_own),
        "if (($null -eq $Now) -eq ($Was[2] -ceq '=') -and ('=' + $Now.Kind) -ceq $Was[2] -and ('=' + $Now.Text) -ceq $Was[3]) {", "if ($true) {")]
    [InlineData("undo forgets what was there", nameof(Scenarios.Undo_lifts_only_its_own),
        "if ($Was[0] -ceq '=') {", "if ($true) {")]
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
        "if ($Packages.Count -eq 0 -and ($Broken.Count -gt 0 -or -not $IsPartial)) { Add-Unknown 'which packages there are'; $Look.Failed = $true }", "")]
    [InlineData("undo gives back what stayed", nameof(Scenarios.A_failure_is_told_with_its_code_and_the_rest_is_done),
        "Where-Object { $Stayed -contains", "Where-Object { $false -and $Stayed -contains")]
    [InlineData("hives that cannot be read are in order", nameof(Scenarios.What_cannot_be_known_is_said),
        "{ Add-Unknown ('the guards of ' + $Who.Name) }", "{ }")]
    [InlineData("no time limit", nameof(Scenarios.Past_the_time_limit_nothing_is_begun),
        "if ([datetime]::UtcNow -lt $Deadline) { return $true }", "return $true")]
    [InlineData("the loud command of a program", nameof(Scenarios.Desktop_programs_are_removed_only_by_their_own_safe_silent_command),
        "[string](Get-Value $Key 'QuietUninstallString')",
            "[string](Get-Value ($MachineRoot + $Program.Key) 'UninstallString')")]
    [InlineData("whatever has a code is a product", nameof(Scenarios.Desktop_programs_are_removed_only_by_their_own_safe_silent_command),
        "if ($Code -and (Get-Value $Key 'WindowsInstaller') -eq 1)", "if ($Code)")]
    [InlineData("commands from anywhere", nameof(Scenarios.Desktop_programs_are_removed_only_by_their_own_safe_silent_command),
        "if (-not $IsSafe -or (-not $Account -and (-not $Rest -or", "if ($false -and ($false -and ($false -or")]
    [InlineData("a damaged list counts", nameof(Scenarios.A_fetched_list_decides_and_the_last_good_one_is_kept),
        "if ($First -cne ('moorfield.list/2 sha256:' + $Digest)) { return }", "")]
    [InlineData("the last good list is not kept", nameof(Scenarios.A_fetched_list_decides_and_the_last_good_one_is_kept),
        "Set-Value $ListRecord 'Body' 'String' $Lines[1]", "$null = 0")]
    [InlineData("detection says that all is well", nameof(Scenarios.One_account_loses_it_and_nobody_else),
        "if ($Look.Drift.Count -gt 0) { $Code = 1;", "if ($false) { $Code = 1;")]
    [InlineData("hives that are mounted are read by the shell", nameof(AdverseScenarios.Hives_that_are_mounted_here_are_unmounted_again),
        "$IsOurs = $Root -clike 'HKEY_USERS\\Moorfield_*'", "$IsOurs = $false")]
    [InlineData("a mount that is left is left", nameof(AdverseScenarios.A_hive_that_an_ended_run_left_mounted_is_unmounted_first),
        "{ Close-Left; ", "{ ")]
    [InlineData("detection does not see a mount", nameof(AdverseScenarios.A_mount_that_is_left_goes_also_where_there_is_nothing_to_do),
        "foreach ($Root in @(Get-Left))", "foreach ($Root in @())")]
    [InlineData("undo leaves a mount", nameof(AdverseScenarios.A_mount_that_is_left_goes_also_where_there_is_nothing_to_do),
        "Close-Left\r\nif (-not (Test-Path -LiteralPath $Record))", "if (-not (Test-Path -LiteralPath $Record))")]
    [InlineData("a hive that stays mounted is only told", nameof(AdverseScenarios.A_hive_that_stays_mounted_is_a_failure),
        "Add-Failed ('the registry of ' + ($Root.TrimEnd('\\') -creplace '^.*\\\\Moorfield_', '') + ' stays mounted until the next start') 5",
            "$null = 0")]
    [InlineData("detection mounts hives", nameof(AdverseScenarios.Detection_mounts_nothing_and_says_what_it_takes_from_the_record),
        "$Look = Get-Look $false", "$Look = Get-Look $true")]
    [InlineData("the record is not named", nameof(AdverseScenarios.Detection_mounts_nothing_and_says_what_it_takes_from_the_record),
        "if ($IsRecorded) {", "if ($false) {")]
    [InlineData("hives of accounts are mounted unasked", nameof(AdverseScenarios.Who_is_signed_out_gets_guards_at_the_next_sign_in),
        "(-not $Who.Sid -or $SignedOut)", "$true")]
    [InlineData("the task stays", nameof(AdverseScenarios.Who_is_signed_out_gets_guards_at_the_next_sign_in),
        "if ($Left.Count -eq 0) { Remove-Task 'sign-in';", "if ($false) {")]
    [InlineData("a task's folder may be anybody's", nameof(AdverseScenarios.No_task_has_its_action_where_people_write),
        "if (Test-Writable $TaskFolder)", "if ($false)")]
    [InlineData("what was seen set is forgotten", nameof(AdverseScenarios.What_others_had_set_is_no_drift_once_they_are_signed_out),
        "Add-Record 'Seen'", "$null = @('Seen')")]
    [InlineData("undo leaves the task", nameof(AdverseScenarios.Undo_removes_the_task_that_waits_for_a_sign_in),
        "Remove-Task 'sign-in'\r\nforeach", "foreach")]
    [InlineData("a list sets any key", nameof(AdverseScenarios.A_list_sets_no_guard_that_the_script_does_not_hold_and_nothing_out_of_range),
        "$Guards | Where-Object { $_.Hive -ceq $Guard.hive -and $_.Key -eq $Guard.key",
            "$Guard | Where-Object { $_.Hive -ceq $Guard.hive -and $_.Key -eq $Guard.key")]
    [InlineData("the range of a list is not looked at",
        nameof(AdverseScenarios.A_list_sets_no_guard_that_the_script_does_not_hold_and_nothing_out_of_range),
        "$null -eq $Guard.data -or $null -eq (Get-GuardText $Guard.kind $Guard.data)", "$false")]
    [InlineData("nulls of a list count", nameof(AdverseScenarios.A_list_sets_no_guard_that_the_script_does_not_hold_and_nothing_out_of_range),
        "if ($null -eq $List.$Name -or @($List.$Name | Where-Object { $null -eq $_ }).Count -gt 0) { return }", "")]
    [InlineData("blocks that are wanted no more stay", nameof(AdverseScenarios.An_older_list_is_refused_and_an_outdated_one_is_none),
        "(Test-Family $_) -and $Blocked -notcontains $_", "$false")]
    [InlineData("an older list counts", nameof(AdverseScenarios.An_older_list_is_refused_and_an_outdated_one_is_none),
        "$List.Issue -lt $Last.Issue", "$false")]
    [InlineData("an outdated list counts", nameof(AdverseScenarios.An_older_list_is_refused_and_an_outdated_one_is_none),
        "if ($List.NotAfter -clt $Today)", "if ($false)")]
    [InlineData("the proxy is forgotten", nameof(AdverseScenarios.An_older_list_is_refused_and_an_outdated_one_is_none),
        "if ($Proxy) {", "if ($false) {")]
    [InlineData("files have one name", nameof(AdverseScenarios.A_list_is_fetched_into_files_of_the_runs_own),
        "[guid]::NewGuid().ToString()", "'one'")]
    [InlineData("no event", nameof(AdverseScenarios.What_came_of_it_is_told_to_programs_too), "Write-EventLog -LogName",
        "$null = @('-LogName')\r\n#")]
    [InlineData("no result in the record", nameof(AdverseScenarios.What_came_of_it_is_told_to_programs_too),
        "Set-Value $Record 'Result' 'String' $Result", "$null = 0")]
    [InlineData("no task for guards that are wanted no more", nameof(AdverseScenarios.A_new_plan_of_the_same_brief_takes_over_from_the_earlier_one),
        "if (@(Get-Unwanted).Count -eq 0) { return }", "return")]
    [InlineData("guards that are wanted no more stay", nameof(AdverseScenarios.A_new_plan_of_the_same_brief_takes_over_from_the_earlier_one),
        "$null = Restore-Guard $Mark", "$null = 0")]
    [InlineData("not known is not told beside drift", nameof(AdverseScenarios.A_state_that_is_not_known_is_never_gone),
        "(Get-Said ' Not known: ' $Unknown 5)", "''")]
    [InlineData("keeps go by case", nameof(AdverseScenarios.Keeps_of_the_hand_over_win_over_a_list_whatever_the_case),
        "$Kept -notcontains", "$Kept -cnotcontains")]
    [InlineData("the general failure is never",
        nameof(AdverseScenarios.The_general_failure_is_not_taken_for_never_and_never_ends_with_the_day_or_build),
        "if ($Codes -contains '0x80070032') {", "if ($Codes -contains '0x80073CFA') {")]
    [InlineData("never is for ever", nameof(AdverseScenarios.The_general_failure_is_not_taken_for_never_and_never_ends_with_the_day_or_build),
        "-clike ('*' + $Lately)", "-clike '*'")]
    [InlineData("state goes by title", nameof(AdverseScenarios.Two_packages_of_one_title_are_two),
        "if ($Lasting[$Family] -or $Held[$Family]", "if ($Lasting.Count + $Held.Count -gt 0")]
    [InlineData("what waits for a sign-in is done", nameof(AdverseScenarios.What_goes_at_the_next_sign_in_is_neither_drift_nor_done),
        "foreach ($Text in $End.Leaving.Values) { Add-Waiting $Text }", "")]
    [InlineData("what waits for a sign-in is there", nameof(AdverseScenarios.What_goes_at_the_next_sign_in_is_neither_drift_nor_done),
        "if ($State -match 'pending *removal' -or (Test-Path -LiteralPath ($Store + '\\EndOfLife\\' + $Sid + '\\' + $One.FullName)))",
            "if ($State -match 'pending *removal')")]
    [InlineData("an unknown state is none", nameof(AdverseScenarios.A_state_that_is_not_known_is_never_gone),
        "else { $One.Odd += $Sid; $One.State = $State }", "")]
    [InlineData("texts are read expanded", nameof(AdverseScenarios.Texts_with_variables_are_read_as_they_stand_and_come_back_as_they_were),
        "if (-not $IsOurs -and $Kind -ceq 'String')", "if (-not $IsOurs)")]
    [InlineData("what is printed otherwise is written", nameof(AdverseScenarios.What_the_systems_program_would_print_otherwise_is_not_written),
        "if (-not (Test-Printed ($Text -creplace '\\\\0', '')) -or", "if ($false -or")]
    [InlineData("what cannot be read is written over", nameof(AdverseScenarios.What_the_systems_program_would_print_otherwise_is_not_written),
        "if ($null -ne $Before -and -not $Before.Kind)", "if ($false)")]
    [InlineData("frameworks go first", nameof(AdverseScenarios.Frameworks_go_after_what_needs_them),
        "if ($Entry.IsFramework) { $Look.Registered", "if ($true) { $Look.Registered")]
    [InlineData("what something depends on is not tried again", nameof(AdverseScenarios.Frameworks_go_after_what_needs_them),
        "@('0x80073D02', '0x80073D19', '0x80073CF3')", "@('0x80073D02', '0x80073D19')")]
    [InlineData("what is still registered is gone",
        nameof(AdverseScenarios.Programs_of_folders_that_people_write_are_not_run_and_what_stays_registered_is_not_gone),
        "elseif (Test-Path -LiteralPath ('Registry::' + $Root + $Program.Key))", "elseif ($false)")]
    [InlineData("rights of a program's file are not looked at",
        nameof(AdverseScenarios.Programs_of_folders_that_people_write_are_not_run_and_what_stays_registered_is_not_gone),
            "(Test-Writable $File) -or", "")]
    [InlineData("rights of a program's folder are not looked at",
        nameof(AdverseScenarios.Programs_of_folders_that_people_write_are_not_run_and_what_stays_registered_is_not_gone),
        "-or (Test-Writable ($File -creplace '\\\\[^\\\\]*$', '\\'))", "")]
    [InlineData("folders below the system's",
        nameof(AdverseScenarios.Programs_of_folders_that_people_write_are_not_run_and_what_stays_registered_is_not_gone),
        "if (($File -creplace '[^\\\\]*$', '') -eq $System) { $Rest", "if ($File -like ($System + '*')) { $Rest")]
    [InlineData("whoever runs undo gets packages", nameof(AdverseScenarios.Undo_gives_packages_to_those_who_had_them_and_nothing_to_the_system),
        "' -Account ' + $Sid", "''")]
    [InlineData("an undo is forgotten", nameof(AdverseScenarios.What_a_person_undid_stays_undone_until_a_new_plan_comes),
        "if ($Undone -and -not $Resume) {", "if ($false) {")]
    [InlineData("earlier plans stand", nameof(AdverseScenarios.A_new_plan_of_the_same_brief_takes_over_from_the_earlier_one),
        "Update-Earlier\r\nAdd-Record", "Add-Record")]
    [InlineData("plans of other briefs go", nameof(AdverseScenarios.A_new_plan_of_the_same_brief_takes_over_from_the_earlier_one),
        "if (-not $Series -or (Get-Value $Path 'Series') -ne $Series) { continue }", "")]
    [InlineData("tasks of an earlier plan stay", nameof(AdverseScenarios.A_new_plan_of_the_same_brief_takes_over_from_the_earlier_one),
        "{ Remove-Task $Name $Other }", "{ $null = 0 }")]
    [InlineData("a preview does it", nameof(AdverseScenarios.A_preview_says_what_would_be_done_and_changes_nothing),
        "if ($Preview) {\r\n    foreach", "if ($false) {\r\n    foreach")]
    [InlineData("a preview ends the claim of another run", nameof(AdverseScenarios.Two_runs_do_not_work_at_once_and_an_ended_one_is_in_nobodys_way),
        "if ($HoldsRun -and $LogPath)", "if ($HoldsRun)")]
    [InlineData("what is not known is touched", nameof(AdverseScenarios.A_state_that_is_not_known_is_never_gone),
        "'nothing: this state is not known'\r\n            continue", "'nothing: this state is not known'")]
    [InlineData("variables in commands are not expanded",
        nameof(AdverseScenarios.Programs_of_folders_that_people_write_are_not_run_and_what_stays_registered_is_not_gone),
        "[string](Get-Value $Key 'QuietUninstallString')",
            "[string](Get-Exact $Machine $Program.Key 'QuietUninstallString').Text")]
    [InlineData("a preview mounts hives", nameof(AdverseScenarios.A_preview_says_what_would_be_done_and_changes_nothing),
        "Get-Look (-not $Preview)", "Get-Look $true")]
    [InlineData("what waits is a failure", nameof(AdverseScenarios.What_came_of_it_is_told_to_programs_too),
        "if (@('0x80073D02', '0x80073D19') -contains $Code) {", "if ($false) {")]
    [InlineData("a restore point for guards", nameof(AdverseScenarios.A_restore_point_is_made_only_when_something_goes),
        "if (Test-Removal) { $Point", "if ($true) { $Point")]
    [InlineData("two runs at once", nameof(AdverseScenarios.Two_runs_do_not_work_at_once_and_an_ended_one_is_in_nobodys_way),
        "if ($Other -and [string]$Other.StartTime.Ticks -ceq $Holder[1]) { return $false }", "")]
    [InlineData("an ended run is in the way", nameof(AdverseScenarios.Two_runs_do_not_work_at_once_and_an_ended_one_is_in_nobodys_way),
        "-and [string]$Other.StartTime.Ticks -ceq $Holder[1]", "")]
    [InlineData("one damaged package ends it", nameof(AdverseScenarios.A_damaged_package_does_not_end_the_listing_of_the_others),
        "$Found = @(foreach ($Item in $Going) {", "$Found = @(foreach ($Item in @()) {")]
    [InlineData("logs grow", nameof(AdverseScenarios.A_long_log_gives_way_to_a_new_one), "-gt 1000000)", "-gt 9000000)")]
    [InlineData("undo goes by the list", nameof(AdverseScenarios.Undo_goes_by_the_record_and_not_by_the_list_of_today),
        "foreach ($Family in @(Get-List 'Blocks' | Where-Object { Test-Family $_ })) {", "foreach ($Family in $Block) {")]
    [InlineData("an account's program as the system", nameof(AdverseScenarios.Accounts_own_programs_go_in_their_own_sessions),
        "$Who = $(if ($Sid) {", "$Who = $(if ($false) {")]
    [InlineData("nobody waits for a program's own removal", nameof(AdverseScenarios.Accounts_own_programs_go_in_their_own_sessions),
        "-cmatch '^(Queued|Running)$'", "-cmatch '^(Queued)$'")]
    [InlineData("no restore point for an account's program", nameof(AdverseScenarios.Accounts_own_programs_go_in_their_own_sessions),
        " + @($Look.Guards | Where-Object { $_.Guard.Hive -ceq 'Program' })).Count", ").Count")]
    [InlineData("the folder of the task stays", nameof(AdverseScenarios.Programs_of_accounts_that_do_not_go_are_told),
        "if (-not (Get-Task 'sign-in')) { Remove-Item", "if ($false) { Remove-Item")]
    [InlineData("an account's program that is still registered is gone", nameof(AdverseScenarios.Programs_of_accounts_that_do_not_go_are_told),
        "if (Test-Gone $Root $Program) { $Done.Programs += 1 }", "if ($true) { $Done.Programs += 1 }")]
    [InlineData("an account's command from anywhere", nameof(AdverseScenarios.Programs_of_accounts_that_do_not_go_are_told),
        "if (-not $IsSafe -or (-not $Account", "if (-not $Account -and (-not $IsSafe")]
    [InlineData("other accounts lose their program", nameof(AdverseScenarios.Programs_of_accounts_that_do_not_go_are_told),
        "foreach ($Who in @($People) + @(if ($Wanted.Newcomers) { $NewAccounts })) {", "foreach ($Who in @($Profiles)) {")]
    [InlineData("what has no quiet way is wanted again and again", nameof(AdverseScenarios.Programs_of_accounts_that_do_not_go_are_told),
        "if ($Root -clike 'HKEY_USERS\\Moorfield_*' -or (Get-QuietCommand $Root $Program)) { return $false }", "if ($true) { return $false }")]
    [InlineData("a task for programs is left by the next run", nameof(AdverseScenarios.A_task_for_programs_that_an_ended_run_left_goes),
        "Close-Left; foreach ($Who in $Profiles) { Remove-Task ('own-' + $Who.Sid) }", "Close-Left")]
    [InlineData("a task for programs is left by undo", nameof(AdverseScenarios.A_task_for_programs_that_an_ended_run_left_goes),
        "Remove-Task 'sign-in'\r\nforeach ($Who in $Profiles) { Remove-Task ('own-' + $Who.Sid) }", "Remove-Task 'sign-in'")]
    [InlineData("new accounts' values stay", nameof(AdverseScenarios.What_installs_itself_for_new_accounts_is_kept_away_and_undone),
        "if (-not $Guard.Kind) { return $null -eq $Now }", "if (-not $Guard.Kind) { return $true }")]
    [InlineData("it is told once a value", nameof(AdverseScenarios.What_installs_itself_for_new_accounts_is_kept_away_and_undone),
        "Get-Lack $_ $Who } | Select-Object -Unique)", "Get-Lack $_ $Who })")]
    [InlineData("what somebody wrote since is overwritten", nameof(AdverseScenarios.What_somebody_wrote_for_new_accounts_since_stays_at_undo),
        "if (($null -eq $Now) -eq ($Was[2] -ceq '=') -and", "if (")]
    public void A_spoilt_script_fails_a_scenario(string what, string scenario, string code, string spoilt)
    {
        bool found = false;
        using var scenarios = new AdverseScenarios(text =>
        {
            found |= text.Contains(code, StringComparison.Ordinal);
            return text.Replace(code, spoilt, StringComparison.Ordinal);
        });
        var failure = Record.Exception(() => AdverseScenarios.All[scenario](scenarios));
        found.ShouldBeTrue($"{what}: the code is not there any more.");
        failure.ShouldBeAssignableTo<ShouldAssertException>($"No scenario notices it: {what}.");
    }
}
