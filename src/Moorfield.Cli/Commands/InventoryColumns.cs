namespace Moorfield.Cli.Commands;

/// <summary>One row of an inventory: a package, or a desktop program.</summary>
/// <param name="Package">Null for a program.</param>
/// <param name="Program">Null for a package.</param>
internal sealed record InventoryRow(SystemSnapshot Snapshot, RemovalAssessment Assessment, InstalledPackage? Package, DesktopProgramGroup? Program)
{
    internal string DisplayName => Package?.DisplayName ?? Program!.Name;

    internal string Publisher => Package?.Publisher ?? Program!.Publisher;

    internal long Bytes => Package?.Bytes ?? Program!.Bytes;

    internal Verdict? Verdict => Package is null ? null : Assessment.Of(Package);

    internal string ProgramHolder => Program!.IsMachines ? "the machine" : DisplayText.Accounts([.. Program!.Sids], Snapshot);

    internal string ProgramCommand => Program?.Entries.Select(e => e.QuietCommand ?? e.UninstallCommand).OfType<string>().FirstOrDefault() ?? "";
}

/// <summary>A column that an inventory can have.</summary>
/// <param name="Name">As <c>--columns</c> and CSV have it.</param>
/// <param name="Text">For people.</param>
/// <param name="Field">For programs; null when it is the same.</param>
internal sealed record InventoryColumn(string Name, string Heading, Func<InventoryRow, string> Text, Func<InventoryRow, string>? Field = null,
    bool IsNumber = false, bool IsQuiet = false);

/// <summary>The columns of an inventory.</summary>
internal static class InventoryColumns
{
    private static InventoryColumn Of(string name, string heading, Func<InstalledPackage, InventoryRow, string> package,
    Func<InventoryRow, string>? program = null, bool quiet = false) =>
        new(name, heading, r => r.Package is { } p ? package(p, r) : program?.Invoke(r) ?? "", IsQuiet: quiet);

    internal static IReadOnlyList<InventoryColumn> All { get; } =
    [
        Of("family", "Family", (p, _) => p.Family.ToString()),
        Of("fullName", "Full name", (p, _) => p.FullName.ToString()),
        Of("displayName", "Package", (p, _) => p.DisplayName, r => r.DisplayName),
        Of("publisher", "Publisher", (p, _) => p.Publisher, r => r.Publisher),
        Of("version", "Version", (p, _) => p.FullName.Version.ToString(), r => string.Join(", ", r.Program!.Versions), quiet: true),
        Of("architecture", "Architecture", (p, _) => p.FullName.Architecture, quiet: true),
        Of("role", "Role", (p, _) => DisplayText.Of(p.Role), _ => "desktop"),
        Of("origin", "Origin", (p, _) => DisplayText.Of(p.Origin), _ => DisplayText.Nothing),
        new("bytes", "Size", r => r.Package is { } p ? DisplayText.Size([p]) : r.Bytes == 0 ? DisplayText.Nothing : TextTable.Size(r.Bytes),
            r => r.Bytes.ToString(), IsNumber: true),
        new("accounts", "Accounts", r => r.Package is { } p ? DisplayText.Accounts(p.Accounts, r.Snapshot) : r.ProgramHolder,
            r => r.Package is { } p ? DisplayText.Joined(DisplayText.Names(p.Accounts, r.Snapshot))
                : DisplayText.Joined(DisplayText.Names(r.Program!.Sids, r.Snapshot))),
        new("newcomers", "Newcomers", r => r.Package is { } p ? DisplayText.Newcomers(p) : r.Program!.Newcomers ? "yes"
            : r.Program.IsBlocked ? "no, blocked" : r.Program.IsMachines ? DisplayText.Nothing : r.Snapshot.AsOf is not null ? "not known" : "no",
            r => ReportRows.Flag(r.Package?.Newcomers ?? r.Program!.Newcomers)),
        new("blocked", "Blocked", r => (r.Package?.Blocked ?? r.Program!.IsBlocked) ? "yes" : DisplayText.Nothing, r =>
            ReportRows.Flag(r.Package?.Blocked ?? r.Program!.IsBlocked)),
        Of("standing", "Standing", (_, r) => DisplayText.Of(r.Verdict!.Standing), _ => DisplayText.Nothing),
        new("reasons", "Because", r => r.Verdict is { } verdict ? MainReason(verdict) : "",
            r => string.Join(' ', (r.Verdict?.Reasons ?? []).Select(x => x.Code)), IsQuiet: true),
        new("uninstallCommand", "Removed by", r => r.ProgramCommand, IsQuiet: true),
        new("startedBy", "Started by", r => Kinds(r, p => p.Starts), r => Names(r.Program?.Starts)),
        new("installedBy", "Installed by", r => Kinds(r, p => p.Installers), r => Names(r.Program?.Installers), IsQuiet: true),
        Of("description", "Description", (p, _) => DisplayText.Readable(p.Manifest?.Description) ?? "", quiet: true),
        new("startsWithWindows", "At start-up", r => StartsWithWindows(r) ? "yes" : DisplayText.Nothing,
            r => ReportRows.Flag(StartsWithWindows(r))),
        new("runsInBackground", "In background", r => r.Package is { } p ? p.RunsInBackground ? "yes" : DisplayText.Nothing : "",
            r => r.Package is { } p
        ? ReportRows.Flag(p.RunsInBackground) : ""),
        Of("edition", "Edition", (_, r) => r.Snapshot.EditionNumber?.ToString() ?? "", r => r.Snapshot.EditionNumber?.ToString() ?? ""),
    ];

    // A survey does not look at what starts programs.
    private static string Kinds(InventoryRow row, Func<DesktopProgramGroup, IEnumerable<StartEntry>> starts) => row.Program is not { } program ? ""
        : row.Snapshot.AsOf is not null ? "not known"
        : DisplayText.OrNothing(starts(program).Select(s => DisplayText.Of(s.Kind, s.IsOff)).Distinct(StringComparer.Ordinal));

    private static string Names(IEnumerable<StartEntry>? starts) =>
        DisplayText.Joined((starts ?? []).Select(DisplayText.Of).Distinct(StringComparer.Ordinal));

    private static bool StartsWithWindows(InventoryRow row) => row.Package?.StartsWithWindows ?? row.Program!.StartsWithWindows;

    /// <summary>The columns of a table of desktop programs alone.</summary>
    internal static IEnumerable<InventoryColumn> Desktop(bool accounts) =>
        new[] { "displayName", "version", "bytes", "publisher", "accounts", "newcomers", "startedBy", "installedBy" }
            .Where(n => n != "accounts" || accounts).Select(n => Find(n)!).Select(c => c.Name == "displayName" ? c with { Heading = "Program" } : c);

    /// <summary>The columns of a table that nobody chose columns for.</summary>
    /// <param name="roles">True if others than applications are shown.</param>
    internal static IEnumerable<InventoryColumn> Usual(bool roles, bool accounts) =>
        new[] { "displayName", "version", "bytes", "role", "origin", "accounts", "newcomers", "standing", "reasons" }
            .Where(n => (n != "role" || roles) && (n != "accounts" || accounts)).Select(n => Find(n)!);

    /// <summary>The columns of a CSV that nobody chose columns for.</summary>
    internal static IEnumerable<InventoryColumn> UsualFields => All;

    /// <exception cref="MoorfieldException">There is no such column.</exception>
    internal static IReadOnlyList<InventoryColumn> Named(IEnumerable<string> names) => [.. names.SelectMany(DisplayText.Split).Select(n => Find(n)
        ?? throw new MoorfieldException(ErrorKind.InvalidUsage,
        $"There is no column '{n}'. Columns are {string.Join(", ", All.Select(c => c.Heading.ToLowerInvariant().Replace(' ', '-')))}."))];

    /// <summary>By its name or its heading, with or without hyphens and spaces.</summary>
    private static InventoryColumn? Find(string name) =>
        All.FirstOrDefault(c => Plain(c.Name) == Plain(name)) ?? All.FirstOrDefault(c => Plain(c.Heading) == Plain(name));

    private static string Plain(string name) => string.Concat(name.Where(char.IsLetterOrDigit)).ToUpperInvariant();

    /// <summary>The gravest of what it would cost or what bars it, in a few words.</summary>
    private static string MainReason(Verdict verdict) =>
        verdict.Reasons.FirstOrDefault(r => r.Kind is ReasonKind.Bar or ReasonKind.Cost)?.Short ?? "";
}
