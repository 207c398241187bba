using System.Collections.Immutable;
using Moorfield.Core.Model;
using Moorfield.Core.Operations;
using Moorfield.Core.Planning;
using Moorfield.Core.Targets;
using Moorfield.Core.Trees;

namespace Moorfield.Reporting;

/// <summary>Puts removals into words: the preview, what stays and why, and the result.</summary>
internal static class RemovalText
{
    internal static void ShowPreview(Target target, ImmutableArray<SystemPlan> plans, bool keepFiles, bool withPoint)
    {
        foreach (var plan in plans)
        {
            ShowPreview(target, plan);
            if (plans.Length > 1)
                Say.Line();
        }
        if (plans.Length > 1)
            Say.Line($"{plans.Length} editions: {Sheet.Count(plans.Sum(p => p.Effective.Length), "package")}, {ChangeText.Totals([.. plans.SelectMany(p => p.Plan.Changes)])}, in one run.");
        if (target is ImageTarget && plans.Any(p => p.Effective.Any(r => r.FilesGo)))
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
        bool along = effective.Any(r => r.GoesWith is not null);
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
        if (effective.Length > 0)
            sheet.Write();
        if (effective.Length == 0)
            Say.Line("No package goes.");
        var going = effective.Where(r => r.FilesGo).Select(r => r.Package).ToList();
        bool data = effective.Any(r => r.Package.FamilyTraces.Any(t => t.Kind == TraceKind.AppData && r.LeavesAccounts.Contains(t.Sid!)));
        if (effective.Length > 0)
            Say.Line($"{Sheet.Count(effective.Length, "package")}: {(going.Sum(p => p.Bytes + p.Withheld) == 0 ? "no package files" : $"{Words.Size(going)} of package files")} go{(!data ? "" : plan.Wish.KeepData ? ", the accounts' app data stays" : ", and the accounts' app data (--keep-data leaves it)")}.");
        if (going.Sum(p => p.Withheld) is > 0 and int withheld)
            Say.Line($"{Sheet.Count(withheld, "file")} of these cannot be read through this mount, so a restore point cannot hold {(withheld == 1 ? "it" : "them")}: with one, this will be refused.");
        ShowMeanings(plan, snapshot);
        if (effective.Count(r => r.SetsBlock) is > 0 and int blocks)
            Say.Line($"{Sheet.Count(blocks, "block")} will keep updates from provisioning {(blocks == 1 ? "it" : "them")} again (--allow-return sets none).");
        foreach (var family in plan.Blocks)
            Say.Line($"Blocked as well: {family}.");
        foreach (var part in effective.Where(r => r.Package.Role == PackageRole.Component && r.SetsBlock && !plan.Wish.Guards.Any(g => g.Guard.IsFor(r.Package.Family))))
            Say.Line($"{part.Package.DisplayName} is part of the system: an update may bring it back in spite of the block, unless a guard that a brief sets keeps it away.");
        foreach (var guard in plan.Guards)
            Say.Line($"Guard to be set for {guard.Place(snapshot)}: {guard.Guard.Describe()}.");
        Say.Line($"In all {ChangeText.Totals(plan.Changes)} (--preview --format json lists each).");
        foreach (var removal in plan.Removals.Where(r => !r.HasEffect))
            Say.Line($"Nothing to do for {removal.Package.DisplayName} {removal.Package.FullName.Version}: {audience} {(plan.Wish.For.Sids.Length == 1 && !plan.Wish.For.Newcomers ? "does" : "do")} not have it.");
        ShowStaying(plan);
        if (!plan.IdleFrameworks.IsEmpty)
            Say.Line($"Nothing will need {Prose.List(plan.IdleFrameworks.Select(f => $"{f.DisplayName} ({f.FullName.Architecture})").Distinct(StringComparer.Ordinal))} any more; --sweep takes {(plan.IdleFrameworks.Length == 1 ? "it" : "them")} along.");
    }

    /// <summary>What the whole removal costs and saves, package by package.</summary>
    private static void ShowMeanings(Plan plan, SystemSnapshot snapshot)
    {
        var costly = plan.Costly.ToList();
        if (costly.Count > 0)
        {
            Say.Heading("What it costs:");
            foreach (var (removal, verdict) in costly)
                Say.Line($"  {removal.Package.DisplayName}: {string.Join(' ', verdict.Costs.Select(r => r.Text))}");
        }
        Saved("startsWithWindows", "start", "with Windows");
        Saved("runsInBackground", "run", "in the background");

        void Saved(string code, string verb, string how)
        {
            foreach (var people in plan.Meanings.Where(m => m.Verdict.Reasons.Any(r => r.Code == code)).GroupBy(m => Gaining(m.Removal, snapshot)))
            {
                var names = people.Select(m => m.Removal.Package.DisplayName).Distinct(StringComparer.Ordinal).ToList();
                Say.Line($"What it saves: {Prose.List(names)} no longer {verb}{(names.Count == 1 ? "s" : "")} {how}{people.Key}.");
            }
        }
    }

    /// <summary>" for ivy"; nothing when all accounts gain.</summary>
    private static string Gaining(PlannedRemoval removal, SystemSnapshot snapshot) =>
        removal.LeavesAccounts.Length == snapshot.Accounts.Length ? "" : $" for {Prose.List(Words.Names(removal.LeavesAccounts, snapshot))}";

    internal static void ShowStaying(Plan plan)
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
            return $"{Words.Size([removal.Package])} go";
        if (removal.Package.Role == PackageRole.Component)
            return "stay: part of Windows";
        var keepers = Words.Names(removal.StaysFor, snapshot).Concat(removal.StaysForNewcomers ? ["newcomers"] : []);
        return $"stay for {string.Join(", ", keepers)}";
    }

    internal static void ShowResult(Target target, ImmutableArray<SystemPlan> plans, Outcome outcome)
    {
        foreach (var plan in plans)
        {
            var before = plan.Snapshot;
            var gone = plan.Effective.Where(r => !outcome.Failed(r.Package.Family.ToString(), before.EditionNumber)).ToList();
            int failed = plan.Effective.Length - gone.Count;
            string freed = gone.Exists(r => r.FilesGo)
                ? $"; {Words.Size(gone.Where(r => r.FilesGo).Select(r => r.Package))} of package files are gone" : "";
            string from = before.EditionNumber is null ? "" : $" from edition {before.EditionNumber} ({before.Name})";
            Say.Line($"Removed {Sheet.Count(gone.Count, "package")}{from} for {plan.Audience}{freed}.{(failed > 0 ? $" {Sheet.Count(failed, "package")} not, or only in part." : "")}");
        }
        if (outcome.Verified)
            Say.Line($"A fresh look at {(plans.Length == 1 ? Words.Place(target, plans[0].Snapshot) : $"{plans.Length} editions of {target.Name}")} agrees with the plan{(outcome.Failures.IsEmpty ? "" : " in all else")}.");
        if (target is ImageTarget { Image: var image })
            Say.Line($"{image.Name} has {Sheet.Size(image.Wim.Length)}; 'moorfield image compact' would give back {Sheet.Size(image.Reclaimable())}.");
    }
}
