using System.Text.Json;
using Moorfield.Formats.Appx;
using Moorfield.Formats.Resources;

namespace Moorfield.Reporting;

/// <summary>Turns facts into the words of the word table.</summary>
internal static class DisplayText
{
    private const int MaxUnlisted = 8, MaxNames = 4, MaxMachines = 6;

    internal const string Nothing = "-";

    /// <summary>How a hand-over ended, in a word; empty for none.</summary>
    internal static string Ended(HandOverRecord? record) => record?.Ended ?? "";

    /// <summary>How hand-overs ended on how many machines.</summary>
    /// <param name="records">One for each machine; null where none is recorded.</param>
    internal static string Ended(IEnumerable<HandOverRecord?> records) => string.Join(", ", records.GroupBy(Ended)
        .OrderBy(g => g.Key.Length == 0).ThenByDescending(g => g.Count())
        .Select(g => $"{(g.Key.Length == 0 ? "none recorded" : g.Key)} on {g.Count()}"));

    /// <summary>How a hand-over ended, and when.</summary>
    internal static string EndedOn(HandOverRecord record) =>
        $"{record.Ended} {(record.Undone.Length > 0 ? record.Undone : record.When?.UtcDateTime.ToString("yyyy-MM-dd"))}".Trim();

    /// <summary>How a hand-over ended, and when; what it said, unless all was done. Without a full stop.</summary>
    internal static string Of(HandOverRecord record) =>
        EndedOn(record) + (record.Code is > 0 && record.Undone.Length == 0 ? $": {record.Said}" : "");

    /// <summary>Why hand-overs did not do all, a line for each reason with the machines.</summary>
    internal static IEnumerable<string> NotDone(IEnumerable<(string Machine, HandOverRecord? Run)> runs) =>
        runs.Where(r => r.Run is { Code: > 0, Undone: "" }).GroupBy(r => Of(r.Run! with { When = null })).OrderByDescending(g => g.Count())
            .Select(g => $"{TextFormat.List(g.Select(r => r.Machine), MaxMachines)}: {g.Key}.");

    /// <summary>The name of a brief without what tells that it is one.</summary>
    internal static string BriefName(string file)
    {
        string name = Path.GetFileNameWithoutExtension(file);
        return name.EndsWith(".brief", StringComparison.OrdinalIgnoreCase) ? name[..^".brief".Length] : name;
    }

    /// <summary>The families that a brief does not name, those of most systems first; null when there are none.</summary>
    /// <param name="systems">Families and names, for each system.</param>
    /// <param name="what">A verb for them; empty when they are simply there.</param>
    /// <param name="briefs">The number of briefs.</param>
    internal static string? Unlisted(
        IReadOnlyCollection<ImmutableArray<(PackageFamilyName Family, string Title)>> systems, string what = "", int briefs = 1) =>
        Unlisted([.. systems.Select(s => new FamilyList([s]))], what, briefs);

    /// <inheritdoc cref="Unlisted(IReadOnlyCollection{ImmutableArray{ValueTuple{PackageFamilyName, string}}}, string, int)"/>
    internal static string? Unlisted(IReadOnlyCollection<FamilyList> systems, string what = "", int briefs = 1)
    {
        var families = FamilyList.Counted(systems).Select(f => (f.Title, Systems: f.Lists)).OrderByDescending(f => f.Systems)
            .ThenBy(f => f.Title, StringComparer.OrdinalIgnoreCase).ToList();
        return families.Count == 0 ? null
            : $"{TextFormat.Count(families.Count, "family", "families")}{what} that {(briefs == 1 ? "the brief does not name" : "no brief names")}: "
                + $"{TextFormat.List(families.Select(f => f.Systems == systems.Count ? f.Title : $"{f.Title} (on {f.Systems})"), MaxUnlisted)}.";
    }

    /// <summary>An enumeration's value as it is written in tables, JSON and options.</summary>
    internal static string Of<T>(T value) where T : struct, Enum => JsonNamingPolicy.CamelCase.ConvertName(value.ToString());

    /// <summary>Account names, or "all 3", or a count when there are many.</summary>
    internal static string Accounts(IReadOnlyCollection<string> sids, SystemSnapshot snapshot)
    {
        if (sids.Count == 0)
            return Nothing;
        if (sids.Count == snapshot.Accounts.Length && sids.Count > 1)
            return $"all {sids.Count}";
        return sids.Count <= MaxNames ? string.Join(", ", Names(sids, snapshot)) : $"{sids.Count} of {snapshot.Accounts.Length}";
    }

    internal static IEnumerable<string> Names(IEnumerable<string> sids, SystemSnapshot snapshot) => sids.Select(s => snapshot.Account(s)?.Name ?? s);

    internal static string Newcomers(InstalledPackage package) => (package.Newcomers ? "yes" : "no") + (package.Blocked ? ", blocked" : "");

    /// <summary>The name of a system of a target: the target, and the edition if it has several.</summary>
    internal static string Place(Target target, SystemSnapshot snapshot) => Place(target, snapshot.EditionNumber);

    internal static string Place(Target target, int? edition) => edition is { } number ? $"edition {number} of {target.Name}" : target.Name;

    /// <summary>How much packages hold, or at least hold.</summary>
    internal static string Size(IEnumerable<InstalledPackage> packages)
    {
        var all = packages.ToList();
        return $"{(all.Exists(p => p.Withheld > 0) ? "at least " : "")}{TextTable.Size(all.Sum(p => p.Bytes))}";
    }

    /// <summary>The parts of a list that is written with commas.</summary>
    internal static string[] Split(string list) => list.Split(',', StringSplitOptions.RemoveEmptyEntries | StringSplitOptions.TrimEntries);

    /// <summary>Account names in one field: no account can have a semicolon in its name.</summary>
    internal static string Joined(IEnumerable<string> accounts) => string.Join(';', accounts);

    /// <summary>A text from a manifest; null when it is only the name of a resource.</summary>
    internal static string? Readable(string? text) => ResourceResolver.IsReference(text) ? null : text;

    internal static string OrNothing(IEnumerable<string> items) => string.Join(", ", items) is { Length: > 0 } text ? text : Nothing;

    /// <summary>One line that says which system this is.</summary>
    internal static string Describe(SystemSnapshot snapshot)
    {
        var parts = new[]
        {
            snapshot.EditionNumber is { } number ? $"Edition {number}: {snapshot.Name}" : snapshot.Computer,
            $"{snapshot.Product} {snapshot.Release}".Trim(),
            snapshot.Build.Length > 0 ? $"build {snapshot.Build}" : "",
            snapshot.Manufacturer.Length > 0 ? $"made by {snapshot.Manufacturer}" : "",
            snapshot.AsOf is { } made ? $"surveyed {made.UtcDateTime:yyyy-MM-dd HH:mm} UTC" : "",
            snapshot.Accounts.IsEmpty ? "no accounts" : $"accounts: {string.Join(", ", snapshot.Accounts.Select(a => a.Name))}",
        };
        return string.Join(" · ", parts.Where(p => p.Length > 0));
    }

    internal static string Of(VerifiedState state) => state switch
    {
        VerifiedState.Same => "same",
        VerifiedState.Differs => "differs",
        _ => "not here",
    };

    /// <summary>A kind of start entry in a word or two.</summary>
    internal static string Of(StartKind kind, bool isOff) => kind switch
    {
        StartKind.Run or StartKind.RunOnce => kind.ToString(),
        StartKind.Shortcut => "Startup folder",
        StartKind.ActiveSetup => "Active Setup",
        _ => Of(kind),
    } + (isOff ? " (off)" : "");

    /// <summary>A start entry in a few words.</summary>
    internal static string Of(StartEntry start) => start.Kind switch
    {
        StartKind.Run or StartKind.RunOnce => $"{start.Kind} value {start.Name}",
        StartKind.Shortcut => $"shortcut '{start.Name}' in Startup",
        StartKind.ActiveSetup => $"Active Setup: {start.Name}",
        StartKind.Task => $"task {start.Name}",
        _ => $"service {start.Name}",
    } + (start.IsOff ? " (switched off)" : "");

    /// <summary>How a package came, in a few words.</summary>
    internal static string Describe(PackageOrigin origin) => origin switch
    {
        PackageOrigin.System => "part of the system",
        PackageOrigin.Shipped => "shipped with the system",
        PackageOrigin.Maker => "from the maker of the machine",
        PackageOrigin.Extra => "provisioned by someone else",
        _ => "added later for accounts",
    };
}
