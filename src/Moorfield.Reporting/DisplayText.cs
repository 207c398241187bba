using System.Text.Json;
using Moorfield.Formats.Resources;

namespace Moorfield.Reporting;

/// <summary>Turns facts into the words of the word table.</summary>
internal static class DisplayText
{
    private const int MaxNames = 4;

    internal const string Nothing = "-";

    private const string Said = "moorfield: ";

    private static string Without(string text, string start) => text.StartsWith(start, StringComparison.Ordinal) ? text[start.Length..] : text;

    /// <summary>How a hand-over ended, in a word; empty for none.</summary>
    internal static string Ended(HandOverRecord? record) => record switch
    {
        null => "",
        { Undone.Length: > 0 } => "undone",
        { Code: null } => "not known",
        { Code: 0 } => "done",
        { Code: 1 } => "failed",
        { Code: 4 } => "waiting",
        { Code: 5 } => "refused",
        _ => "done in part",
    };

    /// <summary>How hand-overs ended on how many machines.</summary>
    /// <param name="records">One for each machine; null where none is recorded.</param>
    internal static string Ended(IEnumerable<HandOverRecord?> records) => string.Join(", ", records.GroupBy(Ended)
        .OrderBy(g => g.Key.Length == 0).ThenByDescending(g => g.Count())
        .Select(g => $"{(g.Key.Length == 0 ? "none recorded" : g.Key)} on {g.Count()}"));

    /// <summary>How a hand-over ended, and when; what it said, unless all was done. Without a full stop.</summary>
    internal static string Of(HandOverRecord record)
    {
        string day = record.Undone.Length > 0 ? record.Undone : record.When?.UtcDateTime.ToString("yyyy-MM-dd") ?? "";
        string ended = Ended(record), line = Without(Without(record.Line, Said), $"{ended}: ").TrimEnd('.');
        return $"{ended} {day}".Trim() + (record.Code is > 0 && record.Undone.Length == 0 ? $": {line}" : "");
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
