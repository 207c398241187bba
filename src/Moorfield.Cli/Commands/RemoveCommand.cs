using System.CommandLine;
using Moorfield.Cli.Documents;
using Moorfield.Cli.Rendering;
using Moorfield.Core;
using Moorfield.Core.Changes;
using Moorfield.Core.Choosing;
using Moorfield.Core.RestorePoints;
using Moorfield.Core.Standing;
using Moorfield.Core.Systems;
using Moorfield.Core.Volumes;

namespace Moorfield.Cli.Commands;

internal static class RemoveCommand
{
    private static readonly Argument<string> Target = Common.Target();
    private static readonly Argument<string[]> Packages = new("PACKAGE")
    {
        Description = "Display name, name, family name or full name; * allowed",
        Arity = ArgumentArity.OneOrMore,
    };

    private static readonly Option<string[]> For = new("--for") { Description = "Account names, accounts (all that exist), newcomers, or everyone (both)", HelpName = "WHO" };
    private static readonly Option<bool> KeepData = new("--keep-data") { Description = "Leave the accounts' app data folders" };
    private static readonly Option<bool> AllowReturn = new("--allow-return") { Description = "Set no block: an update may provision it again" };
    private static readonly Option<bool> Sweep = new("--sweep") { Description = "Also remove frameworks that nothing needs afterwards" };

    internal static Command Create()
    {
        var command = new Command("remove", """
            Removes packages for some or all accounts and for newcomers, after a preview and a confirmation. A restore point is recorded first.

            Example:
              moorfield remove /mnt/counter-07 Weather "Kestrelworks.*" --for everyone
            """)
        { Target, Packages, For, KeepData, AllowReturn, Sweep };
        var options = new ChangeOptions(command);
        command.Handle(parsed => Run(parsed, options));
        return command;
    }

    private static int Run(ParseResult parsed, ChangeOptions options)
    {
        var (volume, snapshot) = Common.Read(parsed.GetRequiredValue(Target), options.Progress.Seam);
        using var open = volume;
        Common.Lock(volume);
        var plan = MakePlan(parsed, snapshot);
        string audience = plan.Wish.For.Describe(snapshot);
        var effective = plan.Removals.Where(r => r.HasEffect).ToList();
        if (effective.Count == 0)
        {
            if (options.IsJson(parsed))
                DocumentJson.Write(DocumentMaker.Plan(volume.FullPath, plan, snapshot));
            else
                ShowStaying(plan);
            if (plan.Refused.Any())
                throw new MoorfieldException(Trouble.Refused, "Nothing of what was named may be removed. Nothing was changed.");
            if (!plan.Removals.IsEmpty)
                Say.Aside($"None of this is there for {audience}: {string.Join(", ", plan.Removals.Select(r => r.Package.DisplayName).Distinct(StringComparer.Ordinal))}. Nothing was changed.");
            else
                Say.Aside("Nothing was changed.");
            return Program.Done;
        }
        var request = new RunRequest(
            RunKind.Remove,
            $"remove {Listed(effective.OrderBy(r => r.GoesWith is not null).Select(r => r.Package.DisplayName))} for {audience}",
            null,
            ChangeOptions.Identity(volume, snapshot),
            [.. effective.Select(r => new ConcernedPackage(r.Package.Family.ToString(), r.Package.DisplayName)).DistinctBy(p => p.Family)],
            plan.Changes);
        int result = options.CarryOut(parsed, volume, snapshot, new ChangeOptions.Proposal(
            request,
            DocumentMaker.Plan(volume.FullPath, plan, snapshot),
            () => ShowPreview(volume, plan, effective, snapshot, audience),
            () => MakePlan(parsed, SystemReader.Read(volume)).Changes.SequenceEqual(plan.Changes),
            report => ShowResult(volume, plan, effective, snapshot, report)));
        return result == Program.Done && plan.Refused.Any() && !options.IsPreview(parsed) ? Program.DoneInPart : result;
    }

    private static Plan MakePlan(ParseResult parsed, SystemSnapshot snapshot)
    {
        var audience = Audience.Parse(parsed.GetValue(For) ?? [], snapshot);
        var chosen = PackageChoice.Find(parsed.GetRequiredValue(Packages), snapshot);
        return RemovalPlanner.Plan(snapshot, new RemovalWish(chosen, audience, parsed.GetValue(KeepData), parsed.GetValue(AllowReturn), parsed.GetValue(Sweep)));
    }

    private static void ShowPreview(WindowsVolume volume, Plan plan, List<PlannedRemoval> effective, SystemSnapshot snapshot, string audience)
    {
        Say.Heading($"To be removed from {volume.Name} for {audience}");
        bool along = effective.Exists(r => r.GoesWith is not null);
        string[] headings = ["Package", "Version", "Accounts losing it", "Newcomers", "Files"];
        var sheet = new Sheet(along ? [.. headings, "Goes with"] : headings).Quiet(1, 5);
        foreach (var removal in effective)
        {
            string[] cells =
            [
                removal.Package.DisplayName, removal.Package.FullName.Version.ToString(), Words.Accounts(removal.LeavesAccounts, snapshot), Newcomers(removal), Files(removal, snapshot),
            ];
            sheet.Add(along ? [.. cells, removal.GoesWith ?? ""] : cells);
        }
        sheet.Write();
        long freed = effective.Where(r => r.FilesGo).Sum(r => r.Package.Bytes);
        bool data = effective.Exists(r => r.Package.AccountTraces.Any(t => t.Kind == TraceKind.AppData && r.LeavesAccounts.Contains(t.Sid!)));
        Say.Line($"{Sheet.Count(effective.Count, "package")}: {(freed == 0 ? "no package files" : $"{Sheet.Size(freed)} of package files")} go{(!data ? "" : plan.Wish.KeepData ? ", the accounts' app data stays" : ", and the accounts' app data (--keep-data leaves it)")}.");
        if (effective.Count(r => r.SetsBlock) is > 0 and int blocks)
            Say.Line($"{Sheet.Count(blocks, "block")} will keep updates from provisioning {(blocks == 1 ? "it" : "them")} again (--allow-return sets none).");
        Say.Line($"In all {ChangeOptions.Totals(plan.Changes)} (--preview --format json lists each).");
        foreach (var removal in plan.Removals.Where(r => !r.HasEffect))
            Say.Line($"Nothing to do for {removal.Package.DisplayName} {removal.Package.FullName.Version}: {audience} {(plan.Wish.For.Sids.Length == 1 && !plan.Wish.For.Newcomers ? "does" : "do")} not have it.");
        ShowStaying(plan);
        if (!plan.IdleFrameworks.IsEmpty)
            Say.Line($"Nothing will need {Listed(plan.IdleFrameworks.Select(f => $"{f.DisplayName} ({f.FullName.Architecture})"))} any more; --sweep takes {(plan.IdleFrameworks.Length == 1 ? "it" : "them")} along.");
    }

    private static void ShowStaying(Plan plan)
    {
        foreach (var staying in plan.Staying)
        {
            string text = $"{staying.Package.DisplayName} stays ({Words.Of(staying.Verdict.Standing)}): {string.Join(' ', staying.Verdict.Reasons.Select(r => r.Text))}";
            if (staying.NamedExactly)
                Say.Error(text);
            else
                Say.Line(text);
        }
    }

    private static string Newcomers(PlannedRemoval removal)
    {
        if (removal.Package.Role is PackageRole.Framework or PackageRole.Resource)
            return Words.Nothing;
        string what = removal.LeavesNewcomers ? "no longer get it" : removal.StaysForNewcomers ? "still get it" : "did not get it";
        return removal.SetsBlock ? $"{what}; block set" : removal.Package.Blocked ? $"{what}; blocked" : what;
    }

    private static string Files(PlannedRemoval removal, SystemSnapshot snapshot)
    {
        if (removal.FilesGo)
            return $"{Sheet.Size(removal.Package.Bytes)} go";
        if (removal.Package.Role == PackageRole.Component)
            return "stay: part of Windows";
        var keepers = Words.Names(removal.StaysFor, snapshot).Concat(removal.StaysForNewcomers ? ["newcomers"] : []);
        return $"stay for {string.Join(", ", keepers)}";
    }

    private static void ShowResult(WindowsVolume volume, Plan plan, List<PlannedRemoval> effective, SystemSnapshot before, RunReport report)
    {
        var after = SystemReader.Read(volume);
        var failed = report.Failures.Select(f => f.Family).ToHashSet(StringComparer.OrdinalIgnoreCase);
        var gone = effective.Where(r => !failed.Contains(r.Package.Family.ToString())).ToList();
        string check = RunVerdict.Check(plan, before, after) is { Count: > 0 } wrong
            ? $"A fresh look at {volume.Name} does not agree: {string.Join(' ', wrong)}"
            : $"A fresh look at {volume.Name} agrees with the plan.";
        long freed = gone.Where(r => r.FilesGo).Sum(r => r.Package.Bytes);
        Say.Line($"Removed {Sheet.Count(gone.Count, "package")} for {plan.Wish.For.Describe(before)}{(freed == 0 ? "" : $"; {Sheet.Size(freed)} of package files are gone")}.{(failed.Count > 0 ? $" {Sheet.Count(effective.Count - gone.Count, "package")} not, or only in part." : "")}");
        Say.Line(check);
    }

    private static string Listed(IEnumerable<string> names)
    {
        const int Most = 4;
        var all = names.Distinct(StringComparer.Ordinal).ToList();
        if (all.Count == 1)
            return all[0];
        return all.Count <= Most ? $"{string.Join(", ", all[..^1])} and {all[^1]}" : $"{string.Join(", ", all[..(Most - 1)])} and {all.Count - Most + 1} more";
    }
}
