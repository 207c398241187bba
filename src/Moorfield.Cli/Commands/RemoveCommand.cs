using System.Collections.Immutable;
using System.CommandLine;
using Moorfield.Cli.Documents;
using Moorfield.Cli.Rendering;
using Moorfield.Core;
using Moorfield.Core.Changes;
using Moorfield.Core.Choosing;
using Moorfield.Core.RestorePoints;
using Moorfield.Core.Standing;
using Moorfield.Core.Systems;
using Moorfield.Formats.Wim;

namespace Moorfield.Cli.Commands;

internal static class RemoveCommand
{
    private static readonly Argument<string> TargetPath = Common.TargetArgument();
    private static readonly Argument<string[]> Packages = new("PACKAGE")
    {
        Description = "Display name, name, family name or full name; * allowed",
        Arity = ArgumentArity.OneOrMore,
    };

    private static readonly Option<string[]> For = new("--for") { Description = "Account names, accounts (all that exist), newcomers, or everyone (both); on an image without accounts: newcomers", HelpName = "WHO" };
    private static readonly Option<string[]> Edition = Common.Edition();
    private static readonly Option<bool> KeepFiles = new("--keep-files") { Description = "On an image: copy the removed files to the vault, so that undo works even after 'image compact'" };
    private static readonly Option<bool> KeepData = new("--keep-data") { Description = "Leave the accounts' app data folders" };
    private static readonly Option<bool> AllowReturn = new("--allow-return") { Description = "Set no block: an update may provision it again" };
    private static readonly Option<bool> Sweep = new("--sweep") { Description = "Also remove frameworks that nothing needs afterwards" };

    internal static Command Create()
    {
        var command = new Command("remove", """
            Removes packages for some or all accounts and for newcomers, after a preview and a confirmation. A restore point is recorded first.

            Example:
              moorfield remove /mnt/counter-07 Weather "Kestrelworks.*" --for everyone
              moorfield remove counter-install.wim Weather --edition 1 --edition 2
            """)
        { TargetPath, Packages, For, Edition, KeepFiles, KeepData, AllowReturn, Sweep };
        var options = new ChangeOptions(command);
        command.Handle(parsed => Run(parsed, options));
        return command;
    }

    /// <summary>The plan for one system.</summary>
    private sealed record SystemPlan(SystemSnapshot Snapshot, Plan Plan)
    {
        internal List<PlannedRemoval> Effective { get; } = [.. Plan.Removals.Where(r => r.HasEffect)];

        internal string Audience => Plan.Wish.For.Describe(Snapshot);
    }

    private static int Run(ParseResult parsed, ChangeOptions options)
    {
        using var target = Common.OpenForChange(parsed.GetRequiredValue(TargetPath), options.Progress.Seam);
        var snapshots = Common.Read(target, parsed.GetValue(Edition));
        if (target.Image is null && parsed.GetValue(KeepFiles))
            throw new MoorfieldException(Trouble.Misused, "--keep-files is for images. On a volume the restore point always holds the removed files.");
        bool keepFiles = parsed.GetValue(KeepFiles) && options.HasRestorePoint(parsed);
        var plans = MakePlans(parsed, snapshots);
        var effective = plans.SelectMany(p => p.Effective.Select(r => (p.Snapshot, Removal: r))).ToList();
        string audience = plans[0].Audience;
        if (effective.Count == 0)
            return NothingToDo(parsed, options, target, plans);
        var request = new RunRequest(
            RunKind.Remove,
            $"remove {Listed(effective.OrderBy(e => e.Removal.GoesWith is not null).Select(e => e.Removal.Package.DisplayName))} for {audience}{Editions(target, plans)}",
            null,
            Runs.Identify(target, snapshots[0]),
            [.. effective.Select(e => new ConcernedPackage(e.Removal.Package.Family.ToString(), e.Removal.Package.DisplayName, e.Snapshot.EditionNumber)).Distinct()],
            [.. plans.SelectMany(p => p.Plan.Changes)]);
        int result = options.CarryOut(parsed, target, new ChangeOptions.Proposal(
            request,
            snapshots[0].Accounts,
            DocumentMaker.Plan(target.FullPath, [.. plans.Select(p => (p.Snapshot, p.Plan))]),
            () => ShowPreview(target, plans, keepFiles, options.HasRestorePoint(parsed)),
            () => MakePlans(parsed, target.Read([.. snapshots.Select(s => s.EditionNumber)])).SelectMany(p => p.Plan.Changes).SequenceEqual(request.Changes),
            report => ShowResult(target, plans, report),
            KeepFiles: keepFiles));
        return result == Program.Done && plans.Exists(p => p.Plan.Refused.Any()) && !options.IsPreview(parsed) ? Program.DoneInPart : result;
    }

    private static int NothingToDo(ParseResult parsed, ChangeOptions options, Target target, List<SystemPlan> plans)
    {
        if (options.IsJson(parsed))
            DocumentJson.Write(DocumentMaker.Plan(target.FullPath, [.. plans.Select(p => (p.Snapshot, p.Plan))]));
        else
            plans.ForEach(p => ShowStaying(p.Plan));
        if (plans.Exists(p => p.Plan.Refused.Any()))
            throw new MoorfieldException(Trouble.Refused, "Nothing of what was named may be removed. Nothing was changed.");
        var names = plans.SelectMany(p => p.Plan.Removals).Select(r => r.Package.DisplayName).Distinct(StringComparer.Ordinal).ToList();
        Say.Aside(names.Count > 0 ? $"None of this is there for {plans[0].Audience}: {string.Join(", ", names)}. Nothing was changed." : "Nothing was changed.");
        return Program.Done;
    }

    private static List<SystemPlan> MakePlans(ParseResult parsed, ImmutableArray<SystemSnapshot> snapshots)
    {
        var chosen = PackageChoice.Find(parsed.GetRequiredValue(Packages), snapshots);
        return [.. snapshots.Select((snapshot, i) => new SystemPlan(snapshot, RemovalPlanner.Plan(snapshot, new RemovalWish(
            chosen[i], Audience.Parse(parsed.GetValue(For) ?? [], snapshot), parsed.GetValue(KeepData), parsed.GetValue(AllowReturn), parsed.GetValue(Sweep)))))];
    }

    private static string Editions(Target target, List<SystemPlan> plans) =>
        target.Image is not { } image ? ""
        : plans.Count == image.Editions.Length ? (plans.Count == 1 ? "" : ", all editions")
        : $", {(plans.Count == 1 ? "edition" : "editions")} {string.Join(", ", plans.Select(p => p.Snapshot.EditionNumber))}";

    private static void ShowPreview(Target target, List<SystemPlan> plans, bool keepFiles, bool withPoint)
    {
        foreach (var plan in plans)
        {
            ShowPreview(target, plan);
            if (plans.Count > 1)
                Say.Line();
        }
        if (plans.Count > 1)
            Say.Line($"{plans.Count} editions: {Sheet.Count(plans.Sum(p => p.Effective.Count), "package")}, {ChangeOptions.Totals([.. plans.SelectMany(p => p.Plan.Changes)])}, in one run.");
        if (target.Image is not null && plans.Exists(p => p.Effective.Exists(r => r.FilesGo)))
        {
            Say.Line(!withPoint ? "The removed files stay inside the image file, unreferred to, until it is compacted; there is nothing to undo them from."
                : keepFiles ? "The removed files are copied to the vault: undo can bring them back even after the image is compacted."
                : "The removed files stay inside the image file until it is compacted; until then undo can bring them back (--keep-files copies them to the vault).");
        }
    }

    private static void ShowPreview(Target target, SystemPlan system)
    {
        var (snapshot, plan) = system;
        var effective = system.Effective;
        string audience = system.Audience;
        Say.Heading($"To be removed from {(snapshot.EditionNumber is { } number ? $"edition {number} ({snapshot.Name}) of {target.Name}" : target.Name)} for {audience}");
        bool along = effective.Exists(r => r.GoesWith is not null);
        string[] headings = ["Package", "Version", "Accounts losing it", "Newcomers", "Files"];
        if (snapshot.Accounts.IsEmpty)
            headings[2] = "";
        var sheet = new Sheet([.. headings.Where(h => h.Length > 0), .. along ? ["Goes with"] : Array.Empty<string>()]).Quiet(1, headings[2].Length > 0 ? 5 : 4);
        foreach (var removal in effective)
        {
            string[] cells =
            [
                removal.Package.DisplayName, removal.Package.FullName.Version.ToString(), .. snapshot.Accounts.IsEmpty ? [] : new[] { Words.Accounts(removal.LeavesAccounts, snapshot) },
                Newcomers(removal), Files(removal, snapshot),
            ];
            sheet.Add(along ? [.. cells, removal.GoesWith ?? ""] : cells);
        }
        if (effective.Count > 0)
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

    private static void ShowResult(Target target, List<SystemPlan> plans, RunReport report)
    {
        var after = target.Read([.. plans.Select(p => p.Snapshot.EditionNumber)]);
        bool agrees = true;
        foreach (var (plan, fresh) in plans.Zip(after))
        {
            var (before, wanted) = plan;
            var failed = report.Failures.Where(f => f.Edition == before.EditionNumber).Select(f => f.Family).ToHashSet(StringComparer.OrdinalIgnoreCase);
            var gone = plan.Effective.Where(r => !failed.Contains(r.Package.Family.ToString())).ToList();
            long freed = gone.Where(r => r.FilesGo).Sum(r => r.Package.Bytes);
            string from = before.EditionNumber is null ? "" : $" from edition {before.EditionNumber} ({before.Name})";
            Say.Line($"Removed {Sheet.Count(gone.Count, "package")}{from} for {plan.Audience}{(freed == 0 ? "" : $"; {Sheet.Size(freed)} of package files are gone")}.{(failed.Count > 0 ? $" {Sheet.Count(plan.Effective.Count - gone.Count, "package")} not, or only in part." : "")}");
            if (RunVerdict.Check(wanted, before, fresh) is not { Count: > 0 } wrong)
                continue;
            agrees = false;
            Say.Line($"A fresh look at {Words.Place(target, before)} does not agree: {string.Join(' ', wrong)}");
        }
        if (agrees)
            Say.Line($"A fresh look at {(plans.Count == 1 ? Words.Place(target, plans[0].Snapshot) : $"{plans.Count} editions of {target.Name}")} agrees with the plan.");
        if (target.Image is { } image)
            Say.Line($"{image.Name} has {Sheet.Size(image.Wim.Length)}; 'moorfield image compact' would give back {Sheet.Size(WimCompactor.Reclaimable(image.Wim))}.");
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
