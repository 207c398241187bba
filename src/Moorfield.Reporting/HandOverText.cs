using Moorfield.Core.HandOver;

namespace Moorfield.Reporting;

/// <summary>Puts hand-overs into words.</summary>
internal static class HandOverText
{
    /// <summary>Adds to the preview of the one system what holds for running machines.</summary>
    internal static void ShowMachineNotes(IReportPage page, HandOverPlan plan, ImmutableArray<SystemPlan> plans)
    {
        var here = plans.SelectMany(p => p.Effective).Select(r => r.Package.Family).ToHashSet();
        var elsewhere = plan.Remove.Where(r => !here.Contains(r.Family)).ToList();
        if (elsewhere.Count > 0)
            page.Line($"On machines that have {(elsewhere.Count == 1 ? "it" : "them")}: "
                + $"{TextFormat.List(elsewhere.Select(r => r.Title), 8)}.");
        int set = plan.Guards.Length - plans.SelectMany(p => p.Plan.Guards).Select(g => g.Guard).Where(g => !g.IsAbsence).Distinct().Count();
        if (set > 0)
            page.Line($"{TextTable.Count(set, "guard")} more {(set == 1 ? "is" : "are")} set here already, and will be on every machine.");
        foreach (var program in plan.Programs)
            page.Line($"The desktop program {program.Name} is uninstalled silently{(program.IsMachines ? ""
                : " in the session of each account that has it, at the next sign-in of those who are signed out")}, "
                + (program.IsInstallerProduct ? "by its product code."
                    : program.QuietCommand is not null ? "by the command that it registered for that."
                    : "where it registered a command for that; here it did not, and would stay."));
        if (!plan.Programs.IsEmpty)
            page.Line("undo.ps1 does not bring desktop programs back; what becomes of their data is up to their own uninstallers.");
        var kept = plan.NewcomerValues.Select(v => v.Title).Distinct(StringComparer.OrdinalIgnoreCase).ToList();
        if (kept.Count > 0)
            page.Line($"{TextFormat.List(kept)} no longer {(kept.Count == 1 ? "installs itself" : "install themselves")} for new accounts; "
                + "undo.ps1 takes that back.");
        if (plan.ListAddress is { } address)
            page.Line($"The scripts follow the list at {address}, as it is when they run.");
        page.Line("On each machine, packages that Windows refuses to remove, or that another package needs, stay and are reported.");
    }

    /// <summary>The whole of plan.txt.</summary>
    internal static void Write(IReportPage page, Target target, HandOverPlan plan, ImmutableArray<SystemPlan> plans, Action preview)
    {
        string when = plans[0].Snapshot.AsOf is { } at ? $" as surveyed {at.UtcDateTime:yyyy-MM-dd HH:mm} UTC" : "";
        page.Line($"HAND-OVER, planned on {target.Name}{when}");
        page.Line();
        preview();
        page.Line();
        string guide = $"""
            WHAT IS IN THIS FOLDER

              remediate.ps1  brings a machine to this plan; a second run changes nothing; -Preview only says what it would do
              detect.ps1     only checks, and mounts no account's registry
              undo.ps1       lifts the blocks and guards that remediate.ps1 set; packages whose files are still there come back
                             at the next sign-in of those who had them; lists the others, which have to be installed again
              check-machine.ps1
                             tests what the scripts rely on, one line each, and writes a file to send back
              blocks.reg     the blocks and guards as registry text; guards of accounts apply to the account that imports it
              plan.json      this plan for programs

            TO RUN ON ONE MACHINE, as administrator, in Windows PowerShell 5.1

              powershell.exe -NoProfile -ExecutionPolicy Bypass -File check-machine.ps1
              powershell.exe -NoProfile -ExecutionPolicy Bypass -File remediate.ps1 -Preview
              powershell.exe -NoProfile -ExecutionPolicy Bypass -File remediate.ps1

              Each ends with one line, writes a log and its result as JSON to Windows\Logs\Moorfield, and an event (source
              Moorfield; 7100, 7200 for detect.ps1, 7300 for undo.ps1, plus the exit code). After {plan.Minutes} minutes it starts nothing
              new.
              Exit codes: 0 done, 1 failed or drifted, 2 not known, 3 done in part, 4 done except for what waits (in use, for an
              account to sign in, or for another run), 5 refused.
              {(plan.MountsSignedOut ? "The registry of accounts that are signed out is mounted for their guards."
            : "Accounts that are signed out get their guards at their next sign-in, from a task that is deleted afterwards.")}
              System restore point: {(plan.RestorePoint switch
            {
                SystemRestorePoint.Require => "required; without one nothing is changed",
                SystemRestorePoint.None => "none is made",
                _ => "tried; the script reports whether it was made",
            })}. Do not rely on it to bring app packages back.

            TO ROLL OUT

              Read the data at the top of each script; the code below is the same in every hand-over. Sign the scripts if your
              machines require it: the same plan gives the same bytes, so one signature is enough. Give detect.ps1 and
              remediate.ps1 to the management service as a pair, to run as SYSTEM in the 64-bit shell; start with a few machines.
              After somebody ran undo.ps1 on a machine, the pair does nothing there until a new plan comes or somebody runs
              remediate.ps1 -Resume. {(plan.Series.Length == 0 ? "This plan replaces no earlier plan, because it was made without a brief."
            : $"A new plan of the brief {plan.Series} replaces the earlier one.")}

            Moorfield's tests run these scripts on a made-up machine, never on Windows: try them on one machine first.
            """;
        foreach (string line in guide.ReplaceLineEndings("\n").Split('\n'))
            page.Line(line);
    }

    /// <summary>Lists the files that were written.</summary>
    internal static void ShowResult(IReportPage page, string folder, IReadOnlyList<(string Name, byte[] Content)> files, HandOverPlan plan)
    {
        page.Line();
        page.Heading($"{folder}: {TextTable.Count(plan.Remove.Length, "family", "families")} to go, "
            + $"{TextTable.Count(plan.Block.Length, "block")}, "
            + TextTable.Count(plan.Guards.Length, "guard")
            + (plan.Programs.Length + plan.NewcomerValues.Length == 0 ? "" : $", {TextTable.Count(plan.Programs.Select(p => p.Name)
                .Concat(plan.NewcomerValues.Select(v => v.Title)).Distinct(StringComparer.OrdinalIgnoreCase).Count(), "desktop program")}"));
        var sheet = new TextTable("File", "Size", "What it is for").Right(1);
        foreach (var (name, content) in files)
            sheet.Add(name, TextTable.Size(content.Length), Purpose(name));
        page.Table(sheet);
        page.Line("Read the data at the top of the scripts, and try them on one machine first: they were tested on a made-up machine, "
            + "never on Windows.");
    }

    private static string Purpose(string name) => name switch
    {
        HandOverFiles.Remediate => "carries the plan out; a second run changes nothing",
        HandOverFiles.Detect => "looks only: 0 as planned, 1 drifted, 2 could not tell, 4 waits",
        HandOverFiles.Undo => "takes back its own blocks and guards, and what is still there",
        HandOverFiles.Check => "tests what the scripts rely on",
        HandOverFiles.Registry => "blocks and guards as registry text",
        "plan.txt" => "this preview, and how to run, sign and roll out",
        _ => "the plan for programs",
    };
}
