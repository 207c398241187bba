using Moorfield.Core.Assessment;
using Moorfield.Core.Selection;

namespace Moorfield.Core.Planning;

/// <summary>A way in which a system is not as a brief wants it.</summary>
/// <param name="Code">stillThere, isNew, cameBack, notBlocked, guardNotSet, guardNotKnown or refused.</param>
/// <param name="Family">Null for a guard that is about no package.</param>
/// <param name="General">The same for every machine that differs in this way: accounts have other names elsewhere.</param>
public sealed record BriefDifference(string Code, string? Family, string? DisplayName, string Text, string General)
{
    internal BriefDifference(string code, string? family, string? displayName, string text) : this(code, family, displayName, text, text)
    {
    }

    /// <summary>True if its text may have placeholders.</summary>
    internal bool HasPlaces => !ReferenceEquals(Text, General);

    /// <summary>The same with names for the placeholders.</summary>
    internal BriefDifference With(string[] names) => HasPlaces ? this with { Text = NamePlaces.Fill(Text, names) } : this;
}

/// <summary>Turns a brief into a plan, and a plan into what is not as the brief wants it: both are the same question.</summary>
public static class BriefPlanner
{
    /// <summary>The brief's request for a system.</summary>
    /// <param name="who">Words of <c>--for</c>, which win over the brief's.</param>
    /// <param name="allowReturn">Block only what the brief blocks outright.</param>
    /// <exception cref="MoorfieldException">Neither says for whom, a rule is ambiguous, a hive with a guard could not be read, or the brief is for
    /// other machines.</exception>
    public static RemovalRequest ToRequest(Brief brief, SystemSnapshot snapshot, IReadOnlyCollection<string> who, bool allowReturn = false) =>
        ToRequest(brief, snapshot, AudienceParser.Parse(who.Count > 0 ? who : brief.For, snapshot), allowReturn);

    /// <summary>The brief's request for a system.</summary>
    /// <param name="allowReturn">Block only what the brief blocks outright.</param>
    /// <exception cref="MoorfieldException">A rule is ambiguous, a hive with a guard could not be read, or the brief is for other machines.
    /// </exception>
    internal static RemovalRequest ToRequest(Brief brief, SystemSnapshot snapshot, Audience audience, bool allowReturn)
    {
        brief.RequireFor(snapshot);
        var choice = BriefSelection.Of(brief, snapshot);
        return new RemovalRequest(choice.Going, audience)
        {
            Advice = brief.Advice,
            Kept = choice.Kept,
            Programs = choice.Programs,
            Unlisted = choice.Unlisted,
            Blocks = audience.Newcomers && !allowReturn ? [.. choice.Blocks.Union(choice.Families)] : choice.Blocks,
            Guards = GuardStates.Of(snapshot, brief.Guards, audience),
        };
    }

    /// <summary>The changes that a plan made from a brief would make, as differences; empty when the system is as the brief wants it.</summary>
    /// <param name="removedBefore">True if an earlier run removed a family from this very target.</param>
    /// <param name="undoneBefore">True if one did, and that was undone.</param>
    public static ImmutableArray<BriefDifference> Differences(Plan plan, SystemSnapshot snapshot, Func<string, bool> removedBefore,
        Func<string, bool> undoneBefore)
    {
        var found = ImmutableArray.CreateBuilder<BriefDifference>();
        foreach (var removal in plan.Removals.Where(r => r.HasEffect))
        {
            var package = removal.Package;
            string family = package.Family.ToString();
            if (removal.RemovedFromAccounts.IsEmpty && !removal.RemovedFromNewcomers && !removal.RemovesFiles)
            {
                found.Add(new BriefDifference("notBlocked", family, package.DisplayName, "is not blocked: an update may provision it again."));
                continue;
            }
            var has = removal.RemovedFromAccounts.Select(sid => snapshot.Account(sid)?.Name ?? sid)
                .Concat(removal.RemovedFromNewcomers ? ["newcomers"] : []).ToList();
            string who = has.Count == 0 ? "its files are there, though nobody has it"
                : $"{TextFormat.List(has)} {(has.Count == 1 && has[0] != "newcomers" ? "has" : "have")} it";
            var (code, how) = package.IsHeld && (package.Blocked || removedBefore(family)) ? ("cameBack", "came back")
                : !package.IsHeld || undoneBefore(family) ? ("stillThere", "is there")
                : ("isNew", "is there");
            string some = has.Count == 0 ? who
                : $"{TextFormat.List([.. removal.RemovedFromAccounts.IsEmpty ? Array.Empty<string>() : ["accounts"], .. removal.RemovedFromNewcomers
                    ? ["newcomers"] : Array.Empty<string>()])} have it";
            found.Add(new BriefDifference(code, family, package.DisplayName, $"{how}: {who}.", $"{how}: {some}."));
        }
        foreach (var refused in plan.Refused)
            found.Add(new BriefDifference("refused", refused.Package.Family.ToString(), refused.Package.DisplayName,
                $"may not be removed. {refused.Verdict.Reasons[0].Text}"));
        foreach (var program in plan.Programs)
        {
            string name = program.Program.Name;
            string code = removedBefore(name) ? "cameBack" : undoneBefore(name) ? "stillThere" : "isNew";
            if (!program.Leaving.IsEmpty)
                found.Add(new BriefDifference(code, name, name, $"is there: {snapshot.NamesOf(program.Leaving.Select(t => t.Program.Sid!))} "
                    + $"{(program.Leaving.Length == 1 ? "has" : "have")} it.", "is there: accounts have it."));
            if (!program.Entries.IsEmpty)
                found.Add(new BriefDifference(code, name, name, "installs itself at a newcomer's first sign-in."));
            if (program.StaysBecause is { } why)
                found.Add(new BriefDifference("refused", name, name, $"stays: {why}"));
        }
        foreach (var family in plan.Blocks)
            found.Add(NotBlocked(family, snapshot.Packages.FirstOrDefault(p => p.Family == family)?.DisplayName));
        found.AddRange(plan.Guards.Select(g => NotSet(g, snapshot)));
        return found.ToImmutable();
    }

    /// <summary>A guard that is to be set, and is not as far as is known.</summary>
    internal static BriefDifference NotSet(GuardState guard, SystemSnapshot snapshot)
    {
        string Says(string place) => !guard.IsKnown ? $"it is not known whether the guard {guard.Guard.Describe()} is set for {place}."
            : $"the guard {guard.Guard.Describe()} is {(guard.Now is null ? "not set" : "set to something else")} for {place}"
                + (guard.Guard.EffectOn(snapshot) == GuardEffect.NotHonoured ? $", and Windows {snapshot.Release} does not honour it." : ".");
        return new BriefDifference(guard.IsKnown ? "guardNotSet" : "guardNotKnown", guard.Guard.Family, null, Says(guard.Place(snapshot)),
            Says(guard.Sid is null ? guard.Place(snapshot) : "accounts"));
    }

    /// <summary>A family that is to be blocked, and is not.</summary>
    /// <param name="title">Null where it is not there.</param>
    internal static BriefDifference NotBlocked(PackageFamilyName family, string? title) =>
        new("notBlocked", family.ToString(), title, "is not blocked: an update may provision it.");
}
