namespace Moorfield.Cli.Commands;

internal static class ExplainCommand
{
    private static readonly Argument<string> TargetPath = Common.TargetArgument(saved: true);
    private static readonly Argument<string> Package = new("PACKAGE") { Description = "Display name, name, family name or full name" };
    private static readonly Option<string[]> Edition = Common.Edition();
    private static readonly Option<bool> Places = new("--places") { Description = "List every place where the package was found" };
    private static readonly Option<string?> Maker = Common.Maker();
    private static readonly Option<string?> VaultPath = Common.VaultPath();
    private static readonly Option<string> Format = Common.Format();

    internal static Command Create()
    {
        var command = new Command("explain", """
            Shows one package in full: what it is, who has it, what it needs and is needed by, what it opens, and what removing it would mean.
            Of a desktop program, what starts it and what installs it at a first sign-in. Of a folder of surveys, the machines that have it.

            Example:
              moorfield explain /mnt/counter-07 "Picture Viewer"
            """)
        { TargetPath, Package, Edition, Places, Maker, VaultPath, Format, Common.ReportFile };
        var brief = new BriefOptions(command);
        command.Handle(call => Run(call, brief));
        return command;
    }

    private static ExitCode Run(Invocation call, BriefOptions briefOptions)
    {
        var brief = briefOptions.Load(call);
        using var fleet = Core.Fleets.Fleet.TryOpen(call.GetRequiredValue(TargetPath));
        if (fleet is not null)
        {
            return FleetExplanation.Show(
                call, Format, fleet, call.GetRequiredValue(Package), call.OpenOptions with { Maker = call.GetValue(Maker) ?? brief?.Maker });
        }
        var (target, snapshots) = Common.Read(
            call, call.GetRequiredValue(TargetPath), call.GetValue(Edition), brief?.Guards, call.GetValue(Maker) ?? brief?.Maker);
        using var open = target;
        string name = call.GetRequiredValue(Package);
        ImmutableArray<ImmutableArray<SelectedPackage>> chosen;
        try
        {
            chosen = PackageSelector.Find([name], snapshots);
        }
        catch (MoorfieldException) when (Programs(name, snapshots).Count > 0)
        {
            return ShowPrograms(call, target, Programs(name, snapshots));
        }
        catch (MoorfieldException e) when (!PackageSelector.FitsSomething(name, snapshots)
            && Common.Gone(Common.Points(call.Console, call.GetValue(VaultPath)), target, snapshots[0], name) is { } gone)
        {
            string options = target.Options + Vault.Option(Vault.ChoosePath(call.GetValue(VaultPath)));
            throw new MoorfieldException(e.Kind, $"{gone} Put it back with {TextFormat.Command("undo", target.FullPath, name, options)}.", e);
        }
        var writer = call.Writer(Format);
        foreach (var (at, (snapshot, package)) in snapshots.Zip(chosen).SelectMany(s => s.Second.Select(c => (s.First, c.Package))).Index())
        {
            var assessment = new RemovalAssessment(snapshot, brief?.Advice);
            var guards = KnownGuards.About(package.Family, snapshot, brief);
            writer.Write(new Report(() => Document(target, package, snapshot, assessment, guards), page =>
            {
                if (at > 0)
                    page.Line();
                Write(page, target, package, snapshot, assessment, guards, call.GetValue(Places));
            }));
        }
        return ExitCode.Done;
    }

    private static List<(SystemSnapshot Snapshot, DesktopProgramGroup Program)> Programs(string name, ImmutableArray<SystemSnapshot> snapshots) =>
        [.. snapshots.SelectMany(s => ProgramSelector.Named(name, [s]).Select(p => (s, p)))];

    /// <summary>Desktop programs, which are no packages: what is known of them, and how the running system removes them.</summary>
    private static ExitCode ShowPrograms(Invocation call, Target target, List<(SystemSnapshot Snapshot, DesktopProgramGroup Program)> programs)
    {
        var writer = call.Writer(Format);
        foreach (var (at, (snapshot, program)) in programs.Index())
        {
            foreach (var (number, entry) in program.Entries.Index())
            {
                writer.Write(new Report(
                    () => new ProgramExplanationJson("moorfield.program/1", target.Given, target.FullPath, snapshot.EditionNumber,
                        DocumentBuilder.Program(entry, snapshot)),
                    page =>
                    {
                        if (at + number > 0)
                            page.Line();
                        if (number == 0)
                            Write(page, snapshot, program);
                        Write(page, snapshot, entry);
                    }));
            }
        }
        return ExitCode.Done;
    }

    private static void Write(IReportPage page, SystemSnapshot snapshot, DesktopProgramGroup program)
    {
        page.Heading(program.Name + (snapshot.EditionNumber is { } number ? $" in edition {number}: {snapshot.Name}" : ""));
        page.Line("A desktop program.");
        page.Line();
        Fact(page, "Publisher", program.Publisher.Length > 0 ? program.Publisher : NotKnown);
        Fact(page, "Accounts", program.IsMachines ? "the machine, and so everyone"
            : DisplayText.OrNothing(DisplayText.Names(program.Sids, snapshot)));
        Fact(page, "Newcomers", program.Newcomers ? "it installs itself at their first sign-in"
            : program.IsBlocked ? "do not get it: a block keeps it from installing itself" : program.IsMachines ? "have it like everyone"
            : snapshot.AsOf is not null ? NotKnown : "do not get it");
        page.Line();
    }

    private static void Write(IReportPage page, SystemSnapshot snapshot, DesktopProgram entry)
    {
        if (!entry.IsMachines)
            page.Heading(entry.Newcomers ? "For newcomers" : $"For {snapshot.NamesOf([entry.Sid!])}");
        if (!entry.Newcomers)
        {
            Fact(page, "Version", entry.Version.Length > 0 ? entry.Version : NotKnown);
            Fact(page, "Size", entry.Bytes > 0 ? $"{TextTable.Size(entry.Bytes)}, as its installer says" : NotKnown);
            Fact(page, "Folder", entry.Folder?.ToString() ?? NotKnown);
            Fact(page, "Removed by", entry.UninstallCommand ?? "no recorded command");
            if (entry.IsInstallerProduct || entry.QuietCommand is not null)
                Fact(page, "Silently by", entry.IsInstallerProduct ? "Windows Installer, by its product code" : entry.QuietCommand!);
        }
        string heading = entry.Newcomers ? "Installed by" : "Started by";
        foreach (var start in entry.Starts)
        {
            Fact(page, heading, $"{DisplayText.Of(start)}: {start.Command}");
            heading = "";
        }
        if (entry.Starts.IsEmpty)
            Fact(page, heading, snapshot.AsOf is not null ? NotKnown : DisplayText.Nothing);
    }

    private static void Write(IReportPage page, Target target, InstalledPackage package, SystemSnapshot snapshot, RemovalAssessment assessment,
        ImmutableArray<Guard> guards, bool places)
    {
        var verdict = assessment.Of(package);
        page.Heading($"{package.DisplayName} "
            + $"{package.FullName.Version}{(snapshot.EditionNumber is { } number ? $" in edition {number}: {snapshot.Name}" : "")}");
        if (DisplayText.Readable(package.Manifest?.Description) is { } description)
            page.Line(description);
        page.Line();
        Fact(page, "Family", package.Family.ToString());
        Fact(page, "Full name", package.FullName.ToString());
        Fact(page, "Publisher", package.Publisher);
        Fact(page, "Role", $"{DisplayText.Of(package.Role)}, {DisplayText.Describe(package.Origin)}");
        Fact(page, "Accounts", DisplayText.OrNothing(DisplayText.Names(package.Accounts, snapshot)));
        Fact(page, "Newcomers", (package.Newcomers ? "get it at their first sign-in" : "do not get it")
            + (package.Blocked ? "; a block keeps it from being provisioned again" : ""));
        page.Line();
        Fact(page, "Files", $"{DisplayText.Size([package])}{(package.Parts.Length > 1 ? $" in {package.Parts.Length} parts" : "")}");
        if (package.Parts.Length > 1)
        {
            foreach (var part in package.Parts)
                Fact(page, "", $"{DisplayText.Of(part.Kind),-9} {TextTable.Size(part.Bytes),9}  {part.FullName}");
        }
        Fact(page, "App data", AppData(target, package, snapshot));
        page.Line();
        Fact(page, "Needs", DisplayText.OrNothing(Named(package.Needs, snapshot)));
        Fact(page, "Needed by", DisplayText.OrNothing(assessment.NeededBy(package).Select(p => p.DisplayName).Distinct(StringComparer.Ordinal)));
        Fact(page, "Apps", DisplayText.OrNothing((package.Manifest?.Applications ?? [])
            .Select(a => $"{DisplayText.Readable(a.DisplayName) ?? a.Id}{(a.ShownInStart ? "" : " (not shown in Start)")}{About(a, package)}")));
        Fact(page, "Opens", DisplayText.OrNothing(Values(package, "windows.fileTypeAssociation")
            .Concat(Values(package, "windows.protocol").Select(s => s + ":"))));
        Fact(page, "Command names", DisplayText.OrNothing(Values(package, "windows.appExecutionAlias")));
        Fact(page, "At start-up", DisplayText.OrNothing(Values(package, "windows.startupTask")));
        Fact(page, "In background", package.RunsInBackground ? "yes" : "no");
        Fact(page, "May reach", DisplayText.OrNothing(package.Manifest?.Capabilities ?? []));
        page.Line();
        Fact(page, "Standing", Standing(verdict.Standing));
        foreach (var group in verdict.Reasons.GroupBy(r => r.Kind))
        {
            string heading = Heading(group.Key);
            foreach (var reason in group)
            {
                Fact(page, heading, reason.Text);
                heading = "";
            }
        }
        if (verdict.Standing == PackageStanding.Protected)
            Fact(page, "Kept away by", KeptAwayBy(guards, snapshot));
        foreach (var note in snapshot.Notes.Where(n => n.Package is not null && package.Parts.Any(p => p.FullName == n.Package)))
            Fact(page, "Problem", note.Text);
        if (!places)
            return;
        page.Line();
        page.Heading("Found in");
        foreach (string place in PlaceTexts(package))
            page.Line($"  {place}");
    }

    /// <summary>The guards that keep a part of the system from coming back with an update, which a block does not.</summary>
    private static string KeptAwayBy(ImmutableArray<Guard> guards, SystemSnapshot snapshot) => guards.IsEmpty
        ? "no known guard: an update may bring it back despite a block, unless a guard from a brief prevents that"
        : "only a guard: " + string.Join(", ", guards.Select(g => g.Name == KnownGuards.RemovalByPolicy
            ? $"{g.Name}, if Windows lists it as a default package"
            : $"{g.Title} ({State(g, snapshot)})"));

    private static string State(Guard guard, SystemSnapshot snapshot)
    {
        try
        {
            return GuardCommand.Standing(GuardStates.Of(snapshot, [guard], AudienceParser.Parse(["everyone"], snapshot)), snapshot);
        }
        catch (MoorfieldException)
        {
            return NotKnown; // its hive is not there or cannot be read, which a note says
        }
    }

    private const string NotKnown = "not known";

    private static void Fact(IReportPage page, string name, string text) => page.Fact(name, text, 14);

    private static string Standing(PackageStanding standing) => standing switch
    {
        PackageStanding.Free => "free: removing it costs nothing",
        PackageStanding.Costly => "costly: removing it costs something",
        PackageStanding.Protected => "protected: removed only if named exactly",
        _ => "essential: cannot be removed",
    };

    private static string Heading(ReasonKind kind) => kind switch
    {
        ReasonKind.Bar => "Because",
        ReasonKind.Cost => "It would cost",
        ReasonKind.Saving => "It would save",
        _ => "Also",
    };

    private static string AppData(Target target, InstalledPackage package, SystemSnapshot snapshot) =>
        DisplayText.OrNothing(package.FamilyTraces.Where(t => t.Kind == TraceKind.AppData)
            .Select(t => $"{snapshot.Account(t.Sid!)?.Name ?? t.Sid} {Measured(target, snapshot, ((TreeLocation)t.Location).Path)}"));

    private static string Measured(Target target, SystemSnapshot snapshot, WindowsPath path) =>
        target.Measure(snapshot.EditionNumber, path) is { } bytes ? TextTable.Size(bytes) : "(size not known)";

    private static IEnumerable<string> Named(IEnumerable<Formats.Appx.PackageFullName> fullNames, SystemSnapshot snapshot) =>
        fullNames.Select(n => $"{snapshot.Package(n)?.DisplayName ?? n.Name} {n.Version}").Distinct(StringComparer.Ordinal);

    private static IEnumerable<string> Values(InstalledPackage package, string category) => package.Manifest?.Values(category) ?? [];

    private static IEnumerable<string> PlaceTexts(InstalledPackage package) => package.AllTraces.Select(t => t.Location switch
    {
        KeyLocation key => $"registry key    {key.Hive}: {key.Key}",
        ValueLocation value => $"registry value  {value.Hive}: {value.Key}: {value.Value}",
        RowsLocation rows => $"database rows   {rows.FullName}{(rows.Sid is null ? "" : $" for {rows.Sid}")}",
        EntryLocation entry => $"list entry      {LeftoverText.Where(entry)}",
        _ => $"files           {((TreeLocation)t.Location).Path}",
    });

    /// <summary>The description of an app, where it differs from that of its package.</summary>
    private static string About(AppxApplication app, InstalledPackage package) =>
        DisplayText.Readable(app.Description) is { } about && about != package.Manifest?.Description && about != package.DisplayName ? $": {about}"
        : "";

    private static ExplanationJson Document(Target target, InstalledPackage package, SystemSnapshot snapshot, RemovalAssessment assessment,
        ImmutableArray<Guard> guards) => new(
        "moorfield.package/1", target.Given, target.FullPath, snapshot.EditionNumber, DocumentBuilder.Package(package, snapshot, assessment),
        package.Manifest?.Description,
        [.. package.Parts.Select(p => new PartJson(p.FullName.ToString(), DisplayText.Of(p.Kind), p.Bytes))],
        [.. (package.Manifest?.Applications ?? [])
            .Select(a => new ApplicationJson(a.Id, a.DisplayName, a.ShownInStart, DisplayText.Readable(a.Description)))],
        [.. package.Needs.Select(n => n.ToString())],
        [.. assessment.NeededBy(package).Select(p => p.FullName.ToString())],
        [.. Values(package, "windows.fileTypeAssociation")], [.. Values(package, "windows.protocol")],
        [.. Values(package, "windows.appExecutionAlias")],
        [.. Values(package, "windows.startupTask")], package.RunsInBackground, package.Manifest?.Capabilities ?? [], [.. PlaceTexts(package)],
        [.. guards.Select(g => g.Title)]);
}
