using Moorfield.Core.Layout;
using Moorfield.Core.Planning;
using Moorfield.Core.Selection;

namespace Moorfield.Core.HandOver;

/// <summary>Puts the plans for several systems together into one for running machines. Keeps nothing of a system but what that needs.</summary>
/// <param name="brief">That the plans follow; null for none.</param>
internal sealed class HandOverUnion(Brief? brief)
{
    private readonly Dictionary<PackageFamilyName, HandOverPackage> _going = [];
    private readonly HashSet<PackageFamilyName> _frameworks = [], _kept = [], _blocks = [], _staying = [], _told = [];
    private readonly HashSet<HandOverStay> _with = [];
    private readonly Dictionary<(GuardHive, PolicyPlace), Guard> _guards = [];
    private readonly Dictionary<(bool, string), DesktopProgram> _programs = [];
    private readonly Dictionary<(string, string), NewcomerValue> _values = [];
    private bool _allowsReturn;

    /// <summary>Adds the plan for one system.</summary>
    internal void Add(SystemPlan system)
    {
        var (request, plan) = (system.Plan.Request, system.Plan);
        foreach (var removal in plan.Removals.Where(r => r.Package.Role != PackageRole.Resource))
        {
            Add(new HandOverPackage(removal.Package.Family, removal.Package.DisplayName, removal.Package.Role == PackageRole.Component));
            if (removal.Package.Role == PackageRole.Framework)
                _frameworks.Add(removal.Package.Family);
        }
        foreach (var staying in plan.Staying)
        {
            _staying.Add(staying.Package.Family);
            if (PackageConditions.IsOrdinary(staying.Package))
                _told.Add(staying.Package.Family);
            if (staying.Verdict.Reasons[0] is { Code: "keptAddon" } reason && PackageFamilyName.TryParse(reason.Objects[0], out var with))
                _with.Add(new HandOverStay(staying.Package.Family, with));
        }
        _kept.UnionWith(request.Kept.Select(k => k.Family));
        _allowsReturn |= request.AllowReturn;
        _blocks.UnionWith(request.Blocks);
        foreach (var guard in request.Guards.Select(g => g.Guard).Concat(brief?.Guards ?? []).Where(g => !g.IsAbsence))
            _guards.TryAdd((guard.Hive, PolicyPlace.Of(guard)), guard);
        foreach (var program in ProgramsOf(system))
            _programs.TryAdd((program.IsMachines, program.Key!.ToUpperInvariant()), program);
        if (!request.For.Newcomers)
            return;
        foreach (var value in ValuesOf(system))
            _values.TryAdd((value.Key.ToUpperInvariant(), value.Name.ToUpperInvariant()), value);
    }

    /// <summary>Adds what another one holds.</summary>
    internal void Add(HandOverUnion other)
    {
        foreach (var package in other._going.Values)
            Add(package);
        _frameworks.UnionWith(other._frameworks);
        _kept.UnionWith(other._kept);
        _blocks.UnionWith(other._blocks);
        _staying.UnionWith(other._staying);
        _told.UnionWith(other._told);
        _with.UnionWith(other._with);
        foreach (var (key, guard) in other._guards)
            _guards.TryAdd(key, guard);
        foreach (var (key, program) in other._programs)
            _programs.TryAdd(key, program);
        foreach (var (key, value) in other._values)
            _values.TryAdd(key, value);
        _allowsReturn |= other._allowsReturn;
    }

    private void Add(HandOverPackage package) =>
        _going[package.Family] = _going.TryGetValue(package.Family, out var known) ? known with { IsPart = known.IsPart || package.IsPart } : package;

    /// <summary>The plan for all of them.</summary>
    /// <param name="words">Of WHO.</param>
    /// <param name="isFleet">True if only what one of the systems has may go; otherwise also what a brief names exactly.</param>
    /// <exception cref="MoorfieldException">It cannot be handed over.</exception>
    internal HandOverPlan Plan(IReadOnlyCollection<string> words, bool isFleet)
    {
        var (accounts, newcomers) = HandOverPlan.ParseAudience(words);
        _kept.UnionWith((brief?.Keep ?? []).SelectMany(r => r.Families));
        // What a brief names is meant on every machine, though this one may not have it.
        var named = isFleet ? [] : (brief?.Remove ?? []).SelectMany(r => r.Families).Distinct()
            .Where(f => !_staying.Contains(f) && !_going.ContainsKey(f))
            .Select(f => new HandOverPackage(f, f.Name, IsPart: false));
        ImmutableArray<HandOverPackage> remove =
        [
            .. _going.Values.Concat(named).Where(p => !_kept.Contains(p.Family)).OrderBy(p => p.Title, StringComparer.OrdinalIgnoreCase)
                .ThenBy(p => p.Family),
        ];
        var going = remove.Select(p => p.Family).ToHashSet();
        var plan = new HandOverPlan(
            accounts, newcomers, remove, [.. _kept.Order()],
            [.. remove.Where(p => newcomers && !_allowsReturn && !_frameworks.Contains(p.Family)).Select(p => p.Family).Concat(_blocks).Distinct()
                .Where(f => !_kept.Contains(f)).Order()],
            [.. _guards.Values.OrderBy(g => g.Hive).ThenBy(g => g.Key, StringComparer.OrdinalIgnoreCase)
                .ThenBy(g => g.Value.Name, StringComparer.OrdinalIgnoreCase)],
            [.. _programs.Values])
        {
            Series = Path.GetFileName(brief?.Name ?? ""),
            NewcomerValues = [.. _values.Values],
            Stays = [.. _with.Where(s => going.Contains(s.Family))
                .Concat(_told.Where(f => !going.Contains(f) && HandOverPlan.IsProper(f)).Select(f => new HandOverStay(f, null)))
                .OrderBy(s => s.Family).ThenBy(s => s.With)],
            Rules = brief is null ? [] : HandOverRule.Of(brief),
            TellsUnlisted = brief is not null && brief.Unlisted != UnlistedPackages.Keep,
        };
        plan.Check();
        return plan;
    }

    /// <summary>The machine's programs, and those of the accounts that are meant.</summary>
    private static IEnumerable<DesktopProgram> ProgramsOf(SystemPlan system) => system.Plan.Programs.SelectMany(p => p.Program.Entries)
        .Where(e => e.Key is not null && !e.Newcomers
            && (e.Sid is null || system.Plan.Request.For.Sids.Contains(e.Sid, StringComparer.OrdinalIgnoreCase)));

    /// <summary>The blocks to set in the registry of new accounts. A start that Windows cannot block has its value deleted instead.</summary>
    private static IEnumerable<NewcomerValue> ValuesOf(SystemPlan system)
    {
        var hive = Places.UserHive(Places.DefaultProfile);
        foreach (var (title, start) in system.Plan.Programs.SelectMany(p => p.Program.Installers.Select(i => (p.Program.Name, i))))
        {
            if (!system.Plan.Request.AllowReturn && StartBlocks.Of(start) is { } block)
                yield return new NewcomerValue(title, block.Location.Key, block.Location.Value, StartBlocks.ValueOf(block));
            else if (start.Location is ValueLocation value && value.Hive == hive)
                yield return new NewcomerValue(title, value.Key, value.Value, null);
        }
    }
}
