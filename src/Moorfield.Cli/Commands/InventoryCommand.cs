using System.CommandLine;
using Moorfield.Cli.Documents;
using Moorfield.Cli.Rendering;
using Moorfield.Core.Choosing;
using Moorfield.Core.Standing;
using Moorfield.Core.Systems;

namespace Moorfield.Cli.Commands;

internal static class InventoryCommand
{
    private static readonly Argument<string> TargetPath = Common.TargetArgument();
    private static readonly Option<string[]> Edition = Common.Edition();
    private static readonly Option<string?> FindText = new("--find") { Description = "Only packages whose names hold this text", HelpName = "TEXT" };
    private static readonly Option<string[]> Role = Among<PackageRole>("--role", "Only packages of this role");
    private static readonly Option<string[]> Origin = Among<PackageOrigin>("--origin", "Only packages of this origin");
    private static readonly Option<string[]> Standing = Among<PackageStanding>("--standing", "Only packages of this standing");
    private static readonly Option<string[]> For = new("--for") { Description = "Only packages that these have: account names, accounts, newcomers, everyone", HelpName = "WHO" };
    private static readonly Option<bool> All = new("--all") { Description = "Also frameworks, resources and components" };
    private static readonly Option<string> Format = Common.Format("table", "json", "csv");
    private static readonly Option<string> Sort = SortOption();

    internal static Command Create()
    {
        var command = new Command("inventory", """
            Lists the packages of a system, or of each edition of an image: who has them, whether new accounts get them, and what removing them would mean.

            Example:
              moorfield inventory /mnt/counter-07 --for ivy --sort size
            """)
        { TargetPath, Edition, FindText, Role, Origin, For, Standing, Sort, All, Format };
        command.Handle(Run);
        return command;
    }

    /// <summary>One system with what was asked for.</summary>
    /// <param name="Packages">All that fit the filters.</param>
    /// <param name="Shown">Those that the table has.</param>
    private sealed record Section(SystemSnapshot Snapshot, Judgement Judgement, List<InstalledPackage> Packages, List<InstalledPackage> Shown);

    private static int Run(ParseResult parsed)
    {
        var (target, snapshots) = Common.Read(parsed.GetRequiredValue(TargetPath), parsed.GetValue(Edition));
        using var open = target;
        bool all = parsed.GetValue(All) || parsed.GetValue(Role)!.Length > 0;
        var sections = snapshots.Select(snapshot =>
        {
            var judgement = new Judgement(snapshot);
            var packages = Sorted(Filtered(parsed, snapshot, judgement), parsed.GetRequiredValue(Sort), judgement).ToList();
            return new Section(snapshot, judgement, packages, [.. packages.Where(p => all || p.Role is PackageRole.Application or PackageRole.Addon)]);
        }).ToList();
        switch (parsed.GetValue(Format))
        {
            case "json":
                // Programs filter for themselves: nothing is left out that was not asked for.
                DocumentJson.Write(DocumentMaker.Inventory(target, sections.Select(s => (s.Snapshot, s.Judgement, (IEnumerable<InstalledPackage>)s.Packages))));
                break;
            case "csv":
                WriteCsv(sections);
                break;
            default:
                for (int i = 0; i < sections.Count; i++)
                {
                    if (i > 0)
                        Say.Line();
                    WriteTable(sections[i], all);
                }
                if (sections.Count > 1)
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
        var audience = parsed.GetValue(For) is { Length: > 0 } words ? Audience.Parse(words, snapshot) : null;
        return snapshot.Packages.Where(p =>
            (text is null || p.DisplayName.Contains(text, StringComparison.OrdinalIgnoreCase) || p.FullName.ToString().Contains(text, StringComparison.OrdinalIgnoreCase))
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

    private static void WriteTable(Section section, bool all)
    {
        var (snapshot, judgement, packages, shown) = section;
        Say.Heading(Words.Describe(snapshot));
        bool accounts = !snapshot.Accounts.IsEmpty;
        var sheet = new Sheet([.. Row("Package", "Version", "Size", "Role", "Origin", "Accounts", "Newcomers", "Standing")]).Right(2).Quiet(1);
        foreach (var package in shown)
        {
            sheet.Add([.. Row(
                package.DisplayName, package.FullName.Version.ToString(), Sheet.Size(package.Bytes), Words.Of(package.Role), Words.Of(package.Origin),
                Words.Accounts(package.Accounts, snapshot), Words.Newcomers(package), Words.Of(judgement.Of(package).Standing))]);
        }
        if (shown.Count > 0)
            sheet.Write();
        Say.Line($"{Sheet.Count(shown.Count, "package")}, {Sheet.Size(shown.Sum(p => p.Bytes))}.{Hidden(packages.Except(shown).ToList())}");
        WriteNotes(snapshot);

        // The role goes without saying when only applications are shown, the accounts when there are none.
        IEnumerable<string> Row(params string[] cells) => cells.Where((_, i) => (i != 3 || all) && (i != 5 || accounts));
    }

    private static string Hidden(List<InstalledPackage> hidden)
    {
        if (hidden.Count == 0)
            return "";
        var kinds = hidden.GroupBy(p => p.Role).OrderBy(g => g.Key).Select(g => Sheet.Count(g.Count(), Words.Of(g.Key)));
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

    private static void WriteCsv(List<Section> sections) => Csv.Write(
        ["family", "fullName", "displayName", "publisher", "version", "architecture", "role", "origin", "bytes", "accounts", "newcomers", "blocked", "standing", "edition"],
        sections.SelectMany(s => s.Shown.Select(p => new[]
        {
            p.Family.ToString(), p.FullName.ToString(), p.DisplayName, p.Publisher, p.FullName.Version.ToString(), p.FullName.Architecture, Words.Of(p.Role), Words.Of(p.Origin),
            p.Bytes.ToString(), string.Join(' ', Words.Names(p.Accounts, s.Snapshot)), Flag(p.Newcomers), Flag(p.Blocked), Words.Of(s.Judgement.Of(p).Standing),
            s.Snapshot.EditionNumber?.ToString() ?? "",
        })));

    private static string Flag(bool value) => value ? "true" : "false";

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
