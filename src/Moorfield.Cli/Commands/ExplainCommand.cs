using System.Collections.Immutable;
using System.CommandLine;
using Moorfield.Core.Assessment;
using Moorfield.Core.Model;
using Moorfield.Core.Selection;
using Moorfield.Core.Targets;
using Moorfield.Formats.Appx;
using Moorfield.Reporting;

namespace Moorfield.Cli.Commands;

internal static class ExplainCommand
{
    private static readonly Argument<string> TargetPath = Common.TargetArgument(saved: true);
    private static readonly Argument<string> Package = new("PACKAGE") { Description = "Display name, name, family name or full name" };
    private static readonly Option<string[]> Edition = Common.Edition();
    private static readonly Option<bool> Places = new("--places") { Description = "Also list every place where the package was found" };
    private static readonly Option<string?> Maker = Common.Maker();
    private static readonly Option<string> Format = Common.Format("table", "json");

    internal static Command Create()
    {
        var command = new Command("explain", """
            Shows one package in full: what it is, who has it, what it needs and is needed by, what it opens, and what removing it would mean.

            Example:
              moorfield explain /mnt/counter-07 "Picture Viewer"
            """)
        { TargetPath, Package, Edition, Places, Maker, Format };
        var brief = new BriefOptions(command);
        command.Handle(parsed => Run(parsed, brief));
        return command;
    }

    private static int Run(ParseResult parsed, BriefOptions briefOptions)
    {
        var brief = briefOptions.Load(parsed);
        var (target, snapshots) = Common.Read(parsed.GetRequiredValue(TargetPath), parsed.GetValue(Edition), maker: parsed.GetValue(Maker)
            ?? brief?.Maker);
        using var open = target;
        string name = parsed.GetRequiredValue(Package);
        ImmutableArray<ImmutableArray<SelectedPackage>> chosen;
        try
        {
            chosen = PackageSelector.Find([name], snapshots);
        }
        catch (MoorfieldException) when (Programs(name, snapshots).Count > 0)
        {
            return ShowPrograms(parsed, target, Programs(name, snapshots));
        }
        bool first = true;
        foreach (var (snapshot, packages) in snapshots.Zip(chosen))
        {
            var assessment = new RemovalAssessment(snapshot, brief?.Advice);
            foreach (var package in packages.Select(c => c.Package))
            {
                if (parsed.GetValue(Format) == "json")
                {
                    DocumentJson.Write(Document(target, package, snapshot, assessment));
                    continue;
                }
                if (!first)
                    ConsoleOutput.Result();
                first = false;
                Write(target, package, snapshot, assessment, parsed.GetValue(Places));
            }
        }
        return Program.Done;
    }

    private static List<(SystemSnapshot Snapshot, ClassicProgram Program)> Programs(string name, ImmutableArray<SystemSnapshot> snapshots) =>
        [.. snapshots.SelectMany(s => s.ClassicPrograms.Where(p => NamePattern.Matches(name, p.Name)).Select(p => (s, p)))];

    /// <summary>Classic programs, which are no packages: what is known of them, and how the running system removes them.</summary>
    private static int ShowPrograms(ParseResult parsed, Target target, List<(SystemSnapshot Snapshot, ClassicProgram Program)> programs)
    {
        bool first = true;
        foreach (var (snapshot, program) in programs)
        {
            string? holder = program.Sid is { } sid ? snapshot.Account(sid)?.Name ?? sid : null;
            if (parsed.GetValue(Format) == "json")
            {
                DocumentJson.Write(new ClassicProgramJson(
                    "moorfield.program/1", target.FullPath, snapshot.EditionNumber,
                    new ProgramJson(program.Name, program.Version, program.Publisher, program.Bytes, holder, program.UninstallCommand, program.Key)));
                continue;
            }
            if (!first)
                ConsoleOutput.Result();
            first = false;
            ConsoleOutput.Heading($"{program.Name} {program.Version}");
            ConsoleOutput.Result("A classic desktop program. Moorfield shows it, and does not change it.");
            ConsoleOutput.Result();
            Fact("Publisher", program.Publisher.Length > 0 ? program.Publisher : NotKnown);
            Fact("Accounts", holder ?? "the machine, and so everyone");
            Fact("Size", program.Bytes > 0 ? $"{TextTable.Size(program.Bytes)}, as its installer says" : NotKnown);
            Fact("Removed by", program.UninstallCommand ?? "no command that is recorded");
        }
        return Program.Done;
    }

    private static void Write(Target target, InstalledPackage package, SystemSnapshot snapshot, RemovalAssessment assessment, bool places)
    {
        var verdict = assessment.Of(package);
        ConsoleOutput.Heading($"{package.DisplayName} "
            + $"{package.FullName.Version}{(snapshot.EditionNumber is { } number ? $" in edition {number}: {snapshot.Name}" : "")}");
        if (DisplayText.Readable(package.Manifest?.Description) is { } description)
            ConsoleOutput.Result(description);
        ConsoleOutput.Result();
        Fact("Family", package.Family.ToString());
        Fact("Full name", package.FullName.ToString());
        Fact("Publisher", package.Publisher);
        Fact("Role", $"{DisplayText.Of(package.Role)}, {DisplayText.Describe(package.Origin)}");
        Fact("Accounts", DisplayText.OrNothing(DisplayText.Names(package.Accounts, snapshot)));
        Fact("Newcomers", (package.Newcomers ? "get it at their first sign-in" : "do not get it")
            + (package.Blocked ? "; a block keeps it from being provisioned again" : ""));
        ConsoleOutput.Result();
        Fact("Files", $"{DisplayText.Size([package])}{(package.Parts.Length > 1 ? $" in {package.Parts.Length} parts" : "")}");
        if (package.Parts.Length > 1)
        {
            foreach (var part in package.Parts)
                Fact("", $"{DisplayText.Of(part.Kind),-9} {TextTable.Size(part.Bytes),9}  {part.FullName}");
        }
        Fact("App data", AppData(target, package, snapshot));
        ConsoleOutput.Result();
        Fact("Needs", DisplayText.OrNothing(Named(package.Needs, snapshot)));
        Fact("Needed by", DisplayText.OrNothing(assessment.NeededBy(package).Select(p => p.DisplayName).Distinct(StringComparer.Ordinal)));
        Fact("Apps", DisplayText.OrNothing((package.Manifest?.Applications ?? [])
            .Select(a => $"{DisplayText.Readable(a.DisplayName) ?? a.Id}{(a.ShownInStart ? "" : " (not shown in Start)")}{About(a, package)}")));
        Fact("Opens", DisplayText.OrNothing(Values(package, "windows.fileTypeAssociation")
            .Concat(Values(package, "windows.protocol").Select(s => s + ":"))));
        Fact("Command names", DisplayText.OrNothing(Values(package, "windows.appExecutionAlias")));
        Fact("At start-up", DisplayText.OrNothing(Values(package, "windows.startupTask")));
        Fact("In background", package.RunsInBackground ? "yes" : "no");
        Fact("May reach", DisplayText.OrNothing(package.Manifest?.Capabilities ?? []));
        ConsoleOutput.Result();
        Fact("Standing", Standing(verdict.Standing));
        foreach (var group in verdict.Reasons.GroupBy(r => r.Kind))
        {
            string heading = Heading(group.Key);
            foreach (var reason in group)
            {
                Fact(heading, reason.Text);
                heading = "";
            }
        }
        foreach (var note in snapshot.Notes.Where(n => n.Package is not null && package.Parts.Any(p => p.FullName == n.Package)))
            Fact("Out of order", note.Text);
        if (!places)
            return;
        ConsoleOutput.Result();
        ConsoleOutput.Heading("Found in");
        foreach (string place in PlaceTexts(package))
            ConsoleOutput.Result($"  {place}");
    }

    private const string NotKnown = "not known";

    private static void Fact(string name, string text) => ConsoleOutput.Fact(name, text, 14);

    private static string Standing(PackageStanding standing) => standing switch
    {
        PackageStanding.Free => "free: nothing else is lost with it",
        PackageStanding.Weigh => "weigh: removing it costs something",
        PackageStanding.Guarded => "guarded: goes only when named exactly",
        _ => "essential: cannot be removed",
    };

    private static string Heading(ReasonKind kind) => kind switch
    {
        ReasonKind.Bar => "Because",
        ReasonKind.Cost => "It would cost",
        ReasonKind.Saving => "It would save",
        _ => "Besides",
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

    /// <summary>What an app is about, where that is not what its package is about.</summary>
    private static string About(AppxApplication app, InstalledPackage package) =>
        DisplayText.Readable(app.Description) is { } about && about != package.Manifest?.Description && about != package.DisplayName ? $": {about}"
        : "";

    private static ExplanationJson Document(Target target, InstalledPackage package, SystemSnapshot snapshot, RemovalAssessment assessment) => new(
        "moorfield.package/1", target.FullPath, snapshot.EditionNumber, DocumentBuilder.Package(package, snapshot, assessment),
        package.Manifest?.Description,
        [.. package.Parts.Select(p => new PartJson(p.FullName.ToString(), DisplayText.Of(p.Kind), p.Bytes))],
        [.. (package.Manifest?.Applications ?? [])
            .Select(a => new ApplicationJson(a.Id, a.DisplayName, a.ShownInStart, DisplayText.Readable(a.Description)))],
        [.. package.Needs.Select(n => n.ToString())],
        [.. assessment.NeededBy(package).Select(p => p.FullName.ToString())],
        [.. Values(package, "windows.fileTypeAssociation")], [.. Values(package, "windows.protocol")],
        [.. Values(package, "windows.appExecutionAlias")],
        [.. Values(package, "windows.startupTask")], package.RunsInBackground, package.Manifest?.Capabilities ?? [], [.. PlaceTexts(package)]);
}
