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
        ShowNotes(page, plan);
        if (!plan.Rules.IsEmpty || plan.TellsUnlisted)
            page.Line("The scripts report, and leave alone, apps that are not in this plan: those that a rule by name means"
                + $"{(plan.TellsUnlisted ? ", and those that the brief does not name" : "")}.");
        page.Line("On each machine, packages that Windows refuses to remove, or that another package needs, stay and are reported.");
    }

    private static void ShowNotes(IReportPage page, HandOverPlan plan)
    {
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
    }

    private const int MaxNamed = 6;

    /// <summary>The preview of a hand-over for many machines.</summary>
    /// <param name="fleet">Its folder's name.</param>
    internal static void Show(IReportPage page, string fleet, FleetPlan plan)
    {
        var handOver = plan.HandOver;
        string whom = handOver is { Newcomers: true, Accounts: [HandOverPlan.AllAccounts] } ? "everyone" : TextFormat.List(
            [
                .. handOver.Accounts.Select(a => a == HandOverPlan.AllAccounts ? "accounts" : a),
                .. handOver.Newcomers ? ["newcomers"] : Array.Empty<string>(),
            ]);
        page.Heading($"Remove from the {TextTable.Count(plan.Machines, "machine")} of {fleet}, for {whom}:");
        string Named(ImmutableArray<string> machines) => machines.Length == plan.Machines ? "all" : TextFormat.List(machines, MaxNamed);
        var sheet = new TextTable("Package", "Machines", "Versions", "Costs").Right(1).Quiet(2);
        foreach (var going in plan.Going)
        {
            string versions = going.Versions is [var first, .., var last] ? $"{first} to {last}" : string.Join("", going.Versions);
            int costly = going.Costs.SelectMany(c => c.Machines).Distinct(StringComparer.Ordinal).Count();
            sheet.Add(going.Title, $"{going.Machines}", versions, costly == 0 ? "" : $"on {costly}");
        }
        if (plan.Going.IsEmpty)
            page.Line("No package is removed.");
        else
            page.Table(sheet);
        if (plan.Going.Any(g => !g.Costs.IsEmpty))
            page.Heading("What it costs:");
        foreach (var (title, cost) in plan.Going.SelectMany(g => g.Costs.Select(c => (g.Title, c))))
            page.Line($"  {title} (on {Named(cost.Machines)}): {cost.Text}");
        if (!plan.Staying.IsEmpty)
            page.Heading("What stays:");
        foreach (var (title, why) in plan.Staying)
            page.Line($"  {title} (on {Named(why.Machines)}): {why.Text}");
        if (handOver.Block.Length + handOver.Guards.Length > 0)
            page.Line($"Every machine gets {TextFormat.List(new[] { (handOver.Block.Length, "block"), (handOver.Guards.Length, "guard") }
                .Where(c => c.Length > 0).Select(c => TextTable.Count(c.Length, c.Item2)))}.");
        if (DisplayText.Unlisted(plan.Unlisted) is { } unlisted)
            page.Line(unlisted);
        ShowNotes(page, handOver);
        var there = handOver.Rules.Select(r => r.Pattern).Distinct(StringComparer.OrdinalIgnoreCase)
            .Except(plan.DisplayNames, StringComparer.OrdinalIgnoreCase).ToList();
        if (there.Count > 0)
            page.Line($"Matched on each machine: {TextFormat.List(there, MaxNamed)}. A package that a rule means and that no machine here has stays "
                + "and is reported: nobody has looked at the costs of its removal.");
        var here = plan.DecidedHere.Select(r => $"{Path.GetFileName(r.Source)} ({r.Conditions.Describe()})")
            .Concat(plan.DisplayNames.Select(n => $"the display name '{n}'")).ToList();
        if (here.Count > 0)
            page.Line($"Decided here, by these machines: {TextFormat.List(here, MaxNamed)}. Scripts know the families that came of it, and no "
                + "others.");
        page.Line("On each machine, packages that Windows refuses to remove, or that another package needs, stay and are reported.");
    }

    /// <summary>The whole of plan.txt.</summary>
    internal static void Write(IReportPage page, Target target, HandOverPlan plan, ImmutableArray<SystemPlan> plans, Action preview) =>
        Write(page, target.Name + (plans[0].Snapshot.AsOf is { } at ? $" as surveyed {at.UtcDateTime:yyyy-MM-dd HH:mm} UTC" : ""), plan, preview);

    /// <summary>The whole of plan.txt.</summary>
    /// <param name="on">The name of the target that the plan was made on.</param>
    internal static void Write(IReportPage page, string on, HandOverPlan plan, Action preview)
    {
        page.Line($"HAND-OVER, planned on {on}");
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
        "machines.txt" => "the machines that it was planned for, by name",
        "plan.txt" => "this preview, and how to run, sign and roll out",
        _ => "the plan for programs",
    };
}
