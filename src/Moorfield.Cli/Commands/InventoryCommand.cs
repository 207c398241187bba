using System.CommandLine;
using Moorfield.Core.Assessment;
using Moorfield.Core.Model;
using Moorfield.Core.Reading;
using Moorfield.Core.Selection;
using Moorfield.Core.Targets;
using Moorfield.Reporting;

namespace Moorfield.Cli.Commands;

internal static class InventoryCommand
{
    private static readonly Argument<string> TargetPath = Common.TargetArgument();
    private static readonly Option<string[]> Edition = Common.Edition();
    private static readonly Option<string?> FindText = new("--find") { Description = "Only packages whose names, description or publisher hold this text", HelpName = "TEXT" };
    private static readonly Option<string[]> Role = Among<PackageRole>("--role", "Only packages of this role");
    private static readonly Option<string[]> Origin = Among<PackageOrigin>("--origin", "Only packages of this origin");
    private static readonly Option<string[]> Standing = Among<PackageStanding>("--standing", "Only packages of this standing");
    private static readonly Option<string[]> For = new("--for") { Description = "Only packages that these have: account names, accounts, newcomers, everyone", HelpName = "WHO" };
    private static readonly Option<bool> All = new("--all") { Description = "Also frameworks, resources and components" };
    private static readonly Option<bool> Leftovers = new("--leftovers") { Description = "Instead of packages: what earlier removals left behind" };
    private static readonly Option<bool> Classic = new("--classic") { Description = "Also classic desktop programs, which Moorfield does not change" };
    private static readonly Option<string> Format = Common.Format("table", "json", "csv");
    private static readonly Option<string> Sort = SortOption();

    internal static Command Create()
    {
        var command = new Command("inventory", """
            Lists the packages of a system, or of each edition of an image: who has them, whether new accounts get them, and what removing them would mean.

            Example:
              moorfield inventory /mnt/counter-07 --for ivy --sort size
              moorfield inventory /mnt/counter-07 --classic --find ferries
            """)
        { TargetPath, Edition, FindText, Role, Origin, For, Standing, Sort, All, Classic, Leftovers, Format };
        command.Handle(Run);
        return command;
    }

    /// <summary>One system with what was asked for.</summary>
    /// <param name="Packages">All that fit the filters.</param>
    /// <param name="Shown">Those that the table has.</param>
    private sealed record Section(SystemSnapshot Snapshot, Judgement Judgement, List<InstalledPackage> Packages, List<InstalledPackage> Shown);

    private static int Run(ParseResult parsed)
    {
        // The document holds what its reader would ask the target for.
        IReadOnlyCollection<Guard> guards = parsed.GetValue(Format) == "json" ? KnownGuards.All : [];
        var (target, snapshots) = Common.Read(parsed.GetRequiredValue(TargetPath), parsed.GetValue(Edition), guards, mayBePartial: true);
        using var open = target;
        bool all = parsed.GetValue(All) || parsed.GetValue(Role)!.Length > 0;
        var sections = snapshots.Select(snapshot =>
        {
            var judgement = new Judgement(snapshot);
            var packages = Sorted(Filtered(parsed, snapshot, judgement), parsed.GetRequiredValue(Sort), judgement).ToList();
            return new Section(snapshot, judgement, packages, [.. packages.Where(p => all || (p.Role is PackageRole.Application or PackageRole.Addon && (p.HasFiles || p.IsHeld)))]);
        }).ToList();
        switch (parsed.GetValue(Format))
        {
            case "json":
                // Programs filter for themselves: nothing is left out that was not asked for.
                DocumentJson.Write(DocumentMaker.Inventory(target, [.. sections.Select(s => (s.Snapshot, s.Judgement, (IEnumerable<InstalledPackage>)s.Packages))]));
                break;
            case "csv":
                WriteCsv(parsed, sections);
                break;
            default:
                for (int i = 0; i < sections.Count; i++)
                {
                    if (i > 0)
                        Say.Line();
                    if (parsed.GetValue(Leftovers))
                        WriteLeftovers(sections[i].Snapshot);
                    else
                        WriteTable(parsed, sections[i], all);
                }
                if (sections.Count > 1 && !parsed.GetValue(Leftovers))
                    WriteTotal(target, sections);
                break;
        }
        return Program.Done;
    }

    private static void WriteTotal(Target target, List<Section> sections)
    {
        var shown = sections.SelectMany(s => s.Shown).ToList();
        int families = shown.Select(p => p.Family).Distinct().Count();
        Say.Line();
        Say.Line($"{target.Name}, {sections.Count} editions: {Sheet.Count(shown.Count, "package")} of {Sheet.Count(families, "family", "families")}, {Sheet.Size(shown.Sum(p => p.Bytes))}; the file holds each content only once.");
    }

    private static IEnumerable<InstalledPackage> Filtered(ParseResult parsed, SystemSnapshot snapshot, Judgement judgement)
    {
        string? text = parsed.GetValue(FindText);
        string[] roles = parsed.GetValue(Role)!;
        string[] origins = parsed.GetValue(Origin)!;
        string[] standings = parsed.GetValue(Standing)!;
        var audience = parsed.GetValue(For) is { Length: > 0 } words ? Who.Parse(words, snapshot) : null;
        return snapshot.Packages.Where(p =>
            (text is null || NamePattern.Finds(text, p))
            && (roles.Length == 0 || roles.Contains(Words.Of(p.Role)))
            && (origins.Length == 0 || origins.Contains(Words.Of(p.Origin)))
            && (standings.Length == 0 || standings.Contains(Words.Of(judgement.Of(p).Standing)))
            && (audience is null || (audience.Newcomers && p.Newcomers) || p.Accounts.Intersect(audience.Sids).Any()));
    }

    private static IEnumerable<InstalledPackage> Sorted(IEnumerable<InstalledPackage> packages, string by, Judgement judgement) => by switch
    {
        "size" => packages.OrderByDescending(p => p.Bytes),
        "version" => packages.OrderByDescending(p => p.FullName.Version),
        "origin" => packages.OrderBy(p => p.Origin),
        "standing" => packages.OrderBy(p => judgement.Of(p).Standing),
        _ => packages,
    };

    private static void WriteTable(ParseResult parsed, Section section, bool all)
    {
        var (snapshot, judgement, packages, shown) = section;
        Say.Heading(Words.Describe(snapshot));
        bool accounts = !snapshot.Accounts.IsEmpty;
        var programs = parsed.GetValue(Classic) ? Programs(parsed, snapshot).ToList() : [];
        var rows = shown.Select(p => (p.DisplayName, p.Bytes, Cells: new[]
        {
            p.DisplayName, p.FullName.Version.ToString(), Words.Size([p]), Words.Of(p.Role), Words.Of(p.Origin),
            Words.Accounts(p.Accounts, snapshot), Words.Newcomers(p), Words.Of(judgement.Of(p).Standing), Gravest(judgement.Of(p)),
        })).Concat(programs.Select(p => (DisplayName: p.Name, p.Bytes, Cells: new[]
        {
            p.Name, p.Version, p.Bytes == 0 ? Words.Nothing : Sheet.Size(p.Bytes), "program", "classic",
            p.Sid is null ? "the machine" : snapshot.Account(p.Sid)?.Name ?? p.Sid, Words.Nothing, "not changed", p.UninstallCommand is { } command ? $"remove by: {command}" : "",
        })));
        if (programs.Count > 0 && parsed.GetRequiredValue(Sort) == "size")
            rows = rows.OrderByDescending(r => r.Bytes);
        else if (programs.Count > 0 && parsed.GetRequiredValue(Sort) == "name")
            rows = rows.OrderBy(r => r.DisplayName, StringComparer.OrdinalIgnoreCase);
        var sheet = new Sheet([.. Row("Package", "Version", "Size", "Role", "Origin", "Accounts", "Newcomers", "Standing", "Because")]).Right(2).Quiet(1, accounts ? 7 : 6);
        var cells = rows.Select(r => r.Cells).ToList();
        cells.ForEach(r => sheet.Add([.. Row(r)]));
        if (cells.Count > 0)
            sheet.Write();
        Say.Line($"{Sheet.Count(shown.Count, "package")}, {Words.Size(shown)}{(programs.Count > 0 ? $", and {Sheet.Count(programs.Count, "classic program")}, {Sheet.Size(programs.Sum(p => p.Bytes))}" : "")}.{Hidden(packages.Except(shown).ToList())}");
        var free = judgement.FreeTogether(shown.Where(p => p.IsHeld));
        if (free.Count > 0)
            Say.Line($"Removing {(free.Count == 1 ? "the one that is" : $"all {free.Count} that are")} free would free {Words.Size(free)}.");
        if (!snapshot.Leftovers.IsEmpty)
            Say.Line($"{Sheet.Count(snapshot.Leftovers.Length, "leftover")} of earlier removals, {Sheet.Size(snapshot.Leftovers.Sum(l => l.Bytes))}; --leftovers lists {(snapshot.Leftovers.Length == 1 ? "it" : "them")}.");
        WriteNotes(snapshot);

        // The role goes without saying when only applications are shown, the accounts when there are none.
        IEnumerable<string> Row(params string[] cells) => cells.Where((_, i) => (i != 3 || all) && (i != 5 || accounts));
    }

    /// <summary>The gravest of what it would cost or what bars it, in a few words.</summary>
    private static string Gravest(Verdict verdict) => verdict.Reasons.FirstOrDefault(r => r.Kind is ReasonKind.Bar or ReasonKind.Cost)?.Short ?? "";

    private static IEnumerable<ClassicProgram> Programs(ParseResult parsed, SystemSnapshot snapshot)
    {
        string? text = parsed.GetValue(FindText);
        var audience = parsed.GetValue(For) is { Length: > 0 } words ? Who.Parse(words, snapshot) : null;
        return snapshot.ClassicPrograms.Where(p =>
            (text is null || p.Name.Contains(text, StringComparison.OrdinalIgnoreCase) || p.Publisher.Contains(text, StringComparison.OrdinalIgnoreCase))
            && (audience is null || p.Sid is null || audience.Sids.Contains(p.Sid)));
    }

    private static string Hidden(List<InstalledPackage> hidden)
    {
        if (hidden.Count == 0)
            return "";
        var kinds = hidden.GroupBy(p => p.Role).OrderBy(g => g.Key)
            .Select(g => Sheet.Count(g.Count(), g.Key is PackageRole.Application or PackageRole.Addon ? "leftover of a package" : Words.Of(g.Key), g.Key is PackageRole.Application or PackageRole.Addon ? "leftovers of packages" : null));
        return $" Not shown: {string.Join(", ", kinds)}; --all shows them.";
    }

    private static void WriteNotes(SystemSnapshot snapshot)
    {
        if (snapshot.Notes.IsEmpty)
            return;
        Say.Line();
        Say.Heading($"Out of order on this system ({snapshot.Notes.Length}):");
        foreach (var note in snapshot.Notes)
            Say.Line($"  {note.Text}");
    }

    private static void WriteLeftovers(SystemSnapshot snapshot)
    {
        Say.Heading(Words.Describe(snapshot));
        LeftoverText.Write(snapshot);
    }

    private static void WriteCsv(ParseResult parsed, List<Section> sections)
    {
        if (parsed.GetValue(Leftovers))
        {
            Csv.Write(["kind", "family", "fullName", "account", "bytes", "place", "edition"], sections.SelectMany(s => s.Snapshot.Leftovers.Select(l => new[]
            {
                Words.Of(l.Kind), l.Family?.ToString() ?? "", l.FullName?.ToString() ?? "", l.Sid is null ? "" : s.Snapshot.Account(l.Sid)?.Name ?? l.Sid, l.Bytes.ToString(),
                LeftoverText.Where(l.Location), Edition(s),
            })));
            return;
        }
        Csv.Write(
            ["family", "fullName", "displayName", "publisher", "version", "architecture", "role", "origin", "bytes", "accounts", "newcomers", "blocked", "standing", "reasons", "uninstallCommand", "edition"],
            sections.SelectMany(s => s.Shown.Select(p => new[]
            {
                p.Family.ToString(), p.FullName.ToString(), p.DisplayName, p.Publisher, p.FullName.Version.ToString(), p.FullName.Architecture, Words.Of(p.Role), Words.Of(p.Origin),
                p.Bytes.ToString(), string.Join(' ', Words.Names(p.Accounts, s.Snapshot)), Csv.Flag(p.Newcomers), Csv.Flag(p.Blocked), Words.Of(s.Judgement.Of(p).Standing),
                string.Join(' ', s.Judgement.Of(p).Reasons.Select(r => r.Code)), "", Edition(s),
            }).Concat((parsed.GetValue(Classic) ? Programs(parsed, s.Snapshot) : []).Select(p => new[]
            {
                "", "", p.Name, p.Publisher, p.Version, "", "program", "classic", p.Bytes.ToString(), p.Sid is null ? "" : s.Snapshot.Account(p.Sid)?.Name ?? p.Sid, "", "", "", "",
                p.UninstallCommand ?? "", Edition(s),
            }))));

        static string Edition(Section section) => section.Snapshot.EditionNumber?.ToString() ?? "";
    }

    private static Option<string[]> Among<T>(string name, string description) where T : struct, Enum
    {
        string[] values = [.. Enum.GetValues<T>().Select(Words.Of)];
        var option = new Option<string[]>(name) { Description = $"{description}: {string.Join(", ", values)}", HelpName = name[2..].ToUpperInvariant(), DefaultValueFactory = _ => [] };
        option.AcceptOnlyFromAmong(values);
        return option;
    }

    private static Option<string> SortOption()
    {
        var option = new Option<string>("--sort") { Description = "Order: name, size, version, origin, standing", DefaultValueFactory = _ => "name", HelpName = "BY" };
        option.AcceptOnlyFromAmong("name", "size", "version", "origin", "standing");
        return option;
    }
}
