namespace Moorfield.Cli.Commands;

internal static class InventoryCommand
{
    private const int MaxWeeks = 520;
    private static readonly Argument<string> TargetPath = Common.TargetArgument(saved: true);
    private static readonly Option<string[]> Edition = Common.Edition();
    private static readonly Option<string?> Maker = Common.Maker();
    private static readonly Option<string[]> For = new("--for") { Description = "Only what these have: account names, accounts, newcomers, "
        + "everyone", HelpName = "WHO" };
    private static readonly Option<bool> All = new("--all") { Description = "Also frameworks, resources and components" };
    private static readonly Option<bool> Machines = new("--machines") { Description = "Of a fleet, the machines instead of packages" };
    private static readonly Option<int?> Weeks = new("--weeks") { Description = "Of a fleet store, on how many machines packages were in the last "
        + "weeks", HelpName = "N" };
    private static readonly Option<bool> Leftovers = new("--leftovers") { Description = "What earlier removals left, instead of packages" };
    private static readonly Option<string> Kind = Common.Kind();
    private static readonly Option<string> Format = Common.Format(hasRows: true, hasCases: false, "saved");
    private static readonly Option<string> Sort = SortOption();
    private static readonly Option<bool> Reverse = new("--reverse") { Description = "Reverse the order" };
    private static readonly Option<string[]> Columns = ColumnsOption();

    internal static Command Create()
    {
        var command = new Command("inventory", """
            Lists the packages of a system, or of each edition of an image: who has them, whether new accounts get them, and what removing
            them would mean. With --kind desktop it lists desktop programs: who has them, what starts them, and what installs them at a
            first sign-in. Of a fleet (a folder of surveys, a store) it lists packages with the machines that have them, or the machines:
            with --brief, also which of the briefs are for a machine, and whether it is as they want it.

            Example:
              moorfield inventory /mnt/counter-07 --for ivy --sort size
              moorfield inventory /mnt/counter-07 --kind desktop
              moorfield inventory /mnt/counter-07 --format saved --to before.saved
              moorfield inventory /mnt/counter-07 --starts-with-windows --columns package,publisher,description
              moorfield inventory surveys --origin maker,added
              moorfield inventory counters.fleet --machines --brief rings
              moorfield inventory counters.fleet --weeks 8 --origin maker
            """)
        { TargetPath, Edition };
        var filters = new FilterOptions(command);
        var briefs = new BriefOptions(command, several: true);
        foreach (var option in new Option[] { For, Sort, Reverse, Columns, Kind, All, Machines, Weeks, Leftovers, Maker, Format, Common.ReportFile })
            command.Add(option);
        command.Handle(call => Run(call, filters, briefs));
        return command;
    }

    /// <summary>One system with what was asked for.</summary>
    /// <param name="Packages">All that fit the filters.</param>
    /// <param name="Shown">Those that the table has.</param>
    /// <param name="Programs">Desktop programs that were asked for.</param>
    /// <param name="FittingPrograms">All desktop programs that fit the filters.</param>
    private sealed record Section(SystemSnapshot Snapshot, RemovalAssessment Assessment, List<InstalledPackage> Packages,
        List<InstalledPackage> Shown, List<DesktopProgramGroup> Programs,
        List<DesktopProgramGroup> FittingPrograms)
    {
        internal IEnumerable<InventoryRow> Rows(IEnumerable<InstalledPackage> packages) =>
            packages.Select(p => new InventoryRow(Snapshot, Assessment, p, null))
                .Concat(Programs.Select(p => new InventoryRow(Snapshot, Assessment, null, p)));
    }

    private static ExitCode Run(Invocation call, FilterOptions filters, BriefOptions briefs)
    {
        bool isSaved = call.GetValue(Format) == "saved";
        if (isSaved && call.GetValue(Common.ReportFile) is null)
            throw new MoorfieldException(ErrorKind.InvalidUsage, "--format saved needs --to FILE.");
        // The file holds what its reader would ask the target for.
        IReadOnlyCollection<Guard> guards = isSaved ? KnownGuards.All : [];
        var filter = filters.Read(call);
        if (isSaved && (!filter.IsEmpty || call.GetValue(For) is { Length: > 0 } || call.GetValue(Leftovers)))
            throw new MoorfieldException(ErrorKind.InvalidUsage, "--format saved saves everything; omit filters, --for and --leftovers.");
        if (call.GetValue(Columns) is { Length: > 0 } wanted)
            _ = InventoryColumns.Named(wanted); // before anything is read or printed
        string path = call.GetRequiredValue(TargetPath);
        using var fleet = Core.Fleets.Fleet.TryOpen(path);
        // The page of a fleet has its machines, too.
        if (briefs.IsGiven(call) && !call.GetValue(Machines) && (fleet is null || call.GetValue(Format) != "html"))
            throw new MoorfieldException(ErrorKind.InvalidUsage, "--brief goes with --machines; 'check' holds other targets against a brief.");
        if (fleet is not null)
        {
            if (call.GetValue(Weeks) is { } weeks)
                return ShowWeeks(call, fleet, weeks, filter);
            return OptionsOfOneSystem(call) is { } option
                ? throw new MoorfieldException(ErrorKind.InvalidUsage,
                    $"{fleet.Name} is {fleet.Description}, and {option} is for one system. Name a file in it.")
                : FleetInventory.Show(
                    call, Format, fleet, filter, call.GetValue(All) || !filter.IsEmpty, call.GetValue(Machines), briefs.LoadAll(call),
                    call.OpenOptions with { Maker = call.GetValue(Maker) });
        }
        if (call.GetValue(Weeks) is not null)
            throw new MoorfieldException(ErrorKind.InvalidUsage, $"--weeks is for a fleet store, which {path} is not.");
        if (call.GetValue(Machines))
            throw new MoorfieldException(ErrorKind.InvalidUsage, $"--machines lists those of a fleet, which {path} is not.");
        var (target, snapshots) = Common.Read(call, path, call.GetValue(Edition), guards, call.GetValue(Maker));
        using var open = target;
        if (isSaved)
            return Save(call.Console, call.GetValue(Common.ReportFile)!, target, snapshots);
        string kind = call.GetRequiredValue(Kind);
        if (kind == "desktop" && call.GetValue(Leftovers))
            throw new MoorfieldException(ErrorKind.InvalidUsage, "--leftovers lists those of apps and of desktop programs; omit --kind.");
        bool all = call.GetValue(All) || !filter.IsEmpty;
        bool whole = filter.IsEmpty && call.GetValue(For) is not { Length: > 0 };
        var sections = snapshots.Select(snapshot =>
        {
            var assessment = new RemovalAssessment(snapshot);
            var audience = call.GetValue(For) is { Length: > 0 } words ? AudienceParser.Parse(words, snapshot) : null;
            var packages = (kind == "desktop" ? [] : snapshot.Packages).Where(p => filter.Fits(p, assessment)
                && (audience is null || (audience.Newcomers && p.Newcomers) || p.Accounts.Intersect(audience.Sids).Any())).ToList();
            var programs = DesktopProgramGroup.Of(snapshot).Where(p => filter.Fits(p) && (audience is null || p.IsMachines
                || (audience.Newcomers && p.Newcomers) || p.Sids.Intersect(audience.Sids).Any())).ToList();
            return new Section(
                snapshot, assessment, packages,
                [.. packages.Where(p => all || (p.Role is PackageRole.Application or PackageRole.Addon && (p.HasFiles || p.IsHeld)))],
                kind == "app" ? [] : programs, programs);
        }).ToList();
        call.Write(Format, new Report(
            () => DocumentBuilder.Inventory(
                    target, [.. sections.Select(s =>
                    (s.Snapshot, s.Assessment, Sorted(call, s.Rows(s.Packages)).Select(r => r.Package).OfType<InstalledPackage>(),
                        s.FittingPrograms.SelectMany(p => p.Entries)))]),
            page =>
            {
                for (int i = 0; i < sections.Count; i++)
                {
                    if (i > 0)
                        page.Line();
                    if (call.GetValue(Leftovers))
                        WriteLeftovers(page, sections[i].Snapshot);
                    else
                        WriteTable(page, call, sections[i], all, whole);
                }
                if (sections.Count > 1 && kind != "desktop" && !call.GetValue(Leftovers))
                    WriteTotal(page, target, sections);
            },
            () => Rows(call, sections)));
        return ExitCode.Done;
    }

    private static ExitCode ShowWeeks(Invocation call, Core.Fleets.IFleet fleet, int weeks, PackageConditions filter)
    {
        if (fleet is not Core.Fleets.IFleetStore store)
            throw new MoorfieldException(ErrorKind.InvalidUsage, $"--weeks is for a fleet store, and {fleet.Name} is {fleet.Description}.");
        if (call.GetValue(Machines) || OptionsOfOneSystem(call) is not null)
            throw new MoorfieldException(ErrorKind.InvalidUsage,
                $"--weeks counts the machines of a store: omit {OptionsOfOneSystem(call) ?? "--machines"}.");
        return weeks is >= 1 and <= MaxWeeks
            ? FleetWeeksTable.Show(call, Format, store, weeks, FleetInventory.Shown(filter, call.GetValue(All) || !filter.IsEmpty))
            : throw new MoorfieldException(ErrorKind.InvalidUsage, $"--weeks takes 1 to {MaxWeeks}.");
    }

    /// <summary>The first option that was given and means nothing for many systems; null for none.</summary>
    private static string? OptionsOfOneSystem(Invocation call) =>
        call.GetValue(Format) == "saved" ? "--format saved" : call.GetValue(For) is { Length: > 0 } ? "--for"
        : call.GetValue(Edition) is { Length: > 0 } ? "--edition" : call.GetValue(Leftovers) ? "--leftovers"
        : call.GetValue(Columns) is { Length: > 0 } ? "--columns" : call.GetRequiredValue(Kind) != "app" ? "--kind"
        : call.GetRequiredValue(Sort) != "name" ? "--sort" : call.GetValue(Reverse) ? "--reverse" : null;

    private static ExitCode Save(IReportPage page, string path, Target target, ImmutableArray<SystemSnapshot> snapshots)
    {
        byte[] content = SavedInventory.Write(target, snapshots);
        NewFile.Write(path, content);
        page.Line($"{path} holds the inventory of {target.Name}: {TextTable.Count(snapshots.Sum(s => s.Packages.Length), "package")} in "
            + $"{TextTable.Size(content.Length)}. It can be used like any target.");
        return ExitCode.Done;
    }

    private static void WriteTotal(IReportPage page, Target target, List<Section> sections)
    {
        var shown = sections.SelectMany(s => s.Shown).ToList();
        int families = shown.Select(p => p.Family).Distinct().Count();
        page.Line();
        page.Line($"{target.Name}, {sections.Count} editions: {TextTable.Count(shown.Count, "package")} of "
            + $"{TextTable.Count(families, "family", "families")}, {TextTable.Size(shown.Sum(p => p.Bytes))}; the file stores equal contents once.");
    }

    private static IEnumerable<InventoryRow> Sorted(Invocation call, IEnumerable<InventoryRow> rows)
    {
        // By name first, so that equal items keep that order.
        var byName = rows.OrderBy(r => r.DisplayName, StringComparer.OrdinalIgnoreCase).ToList();
        IEnumerable<InventoryRow> sorted = call.GetRequiredValue(Sort) switch
        {
            "size" => byName.OrderByDescending(r => r.Bytes),
            "version" => byName.OrderByDescending(r => r.Package?.FullName.Version),
            "origin" => byName.OrderBy(r => r.Package?.Origin ?? PackageOrigin.Added).ThenBy(r => r.Package is null),
            "standing" => byName.OrderBy(r => r.Verdict?.Standing ?? PackageStanding.Essential).ThenBy(r => r.Package is null),
            "publisher" => byName.OrderBy(r => r.Publisher, StringComparer.OrdinalIgnoreCase),
            _ => byName,
        };
        return call.GetValue(Reverse) ? sorted.Reverse() : sorted;
    }

    private static void WriteTable(IReportPage page, Invocation call, Section section, bool all, bool whole)
    {
        var (snapshot, assessment, packages, shown, programs, _) = section;
        page.Heading(DisplayText.Describe(snapshot));
        IReadOnlyList<InventoryColumn> columns = call.GetValue(Columns) is { Length: > 0 } named ? InventoryColumns.Named(named)
            : [.. call.GetRequiredValue(Kind) == "desktop" ? InventoryColumns.Desktop(!snapshot.Accounts.IsEmpty)
                : InventoryColumns.Usual(all || programs.Count > 0, !snapshot.Accounts.IsEmpty)];
        var sheet = new TextTable([.. columns.Select(c => c.Heading)]);
        for (int i = 0; i < columns.Count; i++)
            sheet = columns[i].IsNumber ? sheet.Right(i) : columns[i].IsQuiet ? sheet.Quiet(i) : sheet;
        var rows = Sorted(call, section.Rows(shown)).ToList();
        string Id(int at) => snapshot.EditionNumber is { } edition ? $"e{edition}-{at + 1}" : $"p{at + 1}";
        foreach (var (at, row) in rows.Index())
        {
            sheet.Add([.. columns.Select(c => new TableCell(c.Text(row), c.IsNumber ? row.Bytes : null,
                c.Name == "displayName" && page.TakesDetails && row.Package is not null ? Id(at) : null))]);
        }
        if (rows.Count > 0)
            page.Table(sheet);
        foreach (var (at, row) in page.TakesDetails ? rows.Index() : [])
        {
            if (row.Package is { } package)
                page.Details(Id(at), row.DisplayName, part => WriteDetails(part, package, row));
        }
        string desktop = $"{TextTable.Count(programs.Count, "desktop program")}, {TextTable.Size(programs.Sum(p => p.Bytes))}";
        if (call.GetRequiredValue(Kind) == "desktop")
        {
            page.Line($"{desktop}.");
            return;
        }
        page.Line($"{TextTable.Count(shown.Count, "package")}, {DisplayText.Size(shown)}{(programs.Count > 0 ? $", and {desktop}" : "")}."
            + Hidden([.. packages.Except(shown)], whole && programs.Count == 0 ? DesktopProgramGroup.Of(snapshot).Count() : 0));
        var free = assessment.FreeTogether(shown.Where(p => p.IsHeld && p.Role is PackageRole.Application or PackageRole.Addon
            && p.Origin != PackageOrigin.Added));
        if (free.Count > 0)
            page.Line($"{TextTable.Count(free.Count, "package")} that came with the machine {(free.Count == 1 ? "is" : "are")} free to remove; that "
                + $"gives back {DisplayText.Size(free)}.");
        if (!whole)
            return;
        if (snapshot.HandOvers is [var last, ..])
            page.Line($"Last hand-over{(last.Series.Length > 0 ? $", of {last.Series}" : "")}: {DisplayText.Of(last)}.");
        if (!snapshot.Leftovers.IsEmpty)
            page.Line($"{TextTable.Count(snapshot.Leftovers.Length, "leftover")} of earlier removals, "
                + $"{TextTable.Size(snapshot.Leftovers.Sum(l => l.Bytes))}; --leftovers lists {(snapshot.Leftovers.Length == 1 ? "it" : "them")}.");
        WriteNotes(page, snapshot);
    }

    /// <summary>Says of a package what its row in the table does not.</summary>
    private static void WriteDetails(IReportPage page, InstalledPackage package, InventoryRow row)
    {
        void Fact(string name, string text)
        {
            if (text.Length > 0)
                page.Fact(name, text, 0);
        }
        if (DisplayText.Readable(package.Manifest?.Description) is { Length: > 0 } description)
            page.Line(description);
        Fact("Family", package.Family.ToString());
        Fact("Publisher", package.Publisher);
        // The table has the others.
        if (package.Accounts.Length > 1 && package.Accounts.Length < row.Snapshot.Accounts.Length)
            Fact("Accounts", string.Join(", ", DisplayText.Names(package.Accounts, row.Snapshot)));
        string name = "Because";
        foreach (var reason in row.Verdict!.Reasons.Where(r => r.Code != "nothingNeedsIt"))
        {
            Fact(name, reason.Text);
            name = "";
        }
    }

    /// <param name="programs">Number of desktop programs, which are not shown either.</param>
    private static string Hidden(IReadOnlyCollection<InstalledPackage> hidden, int programs)
    {
        // What applications left counts among the leftovers.
        var kinds = hidden.Where(p => p.Role is not (PackageRole.Application or PackageRole.Addon)).GroupBy(p => p.Role).OrderBy(g => g.Key)
            .Select(g => TextTable.Count(g.Count(), DisplayText.Of(g.Key))).ToList();
        var parts = new List<string>();
        if (kinds.Count > 0)
            parts.Add($"{string.Join(", ", kinds)} (--all)");
        if (programs > 0)
            parts.Add($"{TextTable.Count(programs, "desktop program")} (--kind desktop)");
        return parts.Count == 0 ? "" : $" Not shown: {string.Join(", ", parts)}.";
    }

    private static void WriteNotes(IReportPage page, SystemSnapshot snapshot)
    {
        if (snapshot.Notes.IsEmpty)
            return;
        page.Line();
        page.Heading($"Problems on this system ({snapshot.Notes.Length}):");
        foreach (var note in snapshot.Notes)
            page.Line($"  {note.Text}");
    }

    private static void WriteLeftovers(IReportPage page, SystemSnapshot snapshot)
    {
        page.Heading(DisplayText.Describe(snapshot));
        LeftoverText.Write(page, snapshot, snapshot.Leftovers);
    }

    private static ReportRows Rows(Invocation call, List<Section> sections)
    {
        if (call.GetValue(Leftovers))
        {
            return new ReportRows(["kind", "family", "fullName", "program", "account", "bytes", "place", "edition"],
            sections.SelectMany(s => s.Snapshot.Leftovers.Select(l => new[]
            {
                DisplayText.Of(l.Kind), l.Family?.ToString() ?? "", l.FullName?.ToString() ?? "", l.Program ?? "",
                l.Sid is null ? "" : s.Snapshot.Account(l.Sid)?.Name ?? l.Sid, l.Bytes.ToString(),
                LeftoverText.Where(l.Location), s.Snapshot.EditionNumber?.ToString() ?? "",
            })));
        }
        IReadOnlyList<InventoryColumn> columns = call.GetValue(Columns) is { Length: > 0 } named ? InventoryColumns.Named(named)
            : [.. InventoryColumns.UsualFields];
        return new ReportRows(columns.Select(c => c.Name),
            sections.SelectMany(s => Sorted(call, s.Rows(s.Shown))).Select(r => columns.Select(c => (c.Field ?? c.Text)(r))));
    }

    private static Option<string> SortOption()
    {
        var option = new Option<string>("--sort") { Description = "Order: name, size, version, origin, standing, publisher",
        DefaultValueFactory = _ => "name", HelpName = "BY" };
        option.AcceptOnlyFromAmong("name", "size", "version", "origin", "standing", "publisher");
        return option;
    }

    private static Option<string[]> ColumnsOption()
    {
        var option = new Option<string[]>("--columns")
        {
            Description = "Columns, with commas, named as in the table's heading or in CSV",
            HelpName = "COLUMNS",
        };
        option.CompletionSources.Add([.. InventoryColumns.All.Select(c => c.Name)]);
        return option;
    }
}
