using Moorfield.Cli.Host;
using Moorfield.Reporting.Pages;

namespace Moorfield.Cli.Commands;

/// <summary><c>media verify</c> holds a medium against its provenance.</summary>
internal static class MediaVerifyCommand
{
    private const int DigitsShown = 16;
    private static readonly Argument<string> Medium = new("ISO") { Description = "An ISO that 'media build' made" };
    private static readonly Option<string?> Statement = new("--provenance")
    {
        Description = $"Its provenance (default: ISO{Provenance.Ending})",
        HelpName = "FILE",
    };
    private static readonly Option<string> Format = Common.Format(hasRows: true, hasCases: true);

    internal static Command Create()
    {
        var command = new Command("verify", """
            Holds a medium against its provenance: its SHA-256, those of the source, the recipe, the briefs and the added files where they lie in
            the folder of the provenance, and each edition against what was removed from it. Exit code 4 if anything differs. A provenance is
            not signed: who can replace the medium can replace both.

            Example:
              moorfield media verify counters.iso
            """)
        { Medium, Statement, Format, Common.ReportFile };
        command.Handle(Run);
        return command;
    }

    private static ExitCode Run(Invocation call)
    {
        string medium = call.GetRequiredValue(Medium);
        Core.Storage.RegularFile.CheckNamed(medium);
        string statement = call.GetValue(Statement) ?? medium + Provenance.Ending;
        var verification = new MediaVerification(medium, statement);
        string text = "";
        ImmutableArray<VerifiedPart> parts;
        using (new Ticker(call.Console, () => text))
            parts = verification.Verify(() => Common.Open(call, medium), (name, done) => text = $"Reading {name}: {done:P0}", default);
        var provenance = verification.Provenance;
        bool agrees = parts.All(p => p.State != VerifiedState.Differs);
        call.Write(Format, new Report(
            () => new VerifiedMediumJson("moorfield.media-verification/1", medium, Path.GetFullPath(medium), Path.GetFullPath(statement),
                agrees, provenance.Version, provenance.Program, provenance.Recipe,
                [.. parts.Select(p => new VerifiedPartJson(p.Role, p.Name, DisplayText.Of(p.State), p.Recorded, p.Found))]),
            page =>
            {
                page.Line($"{Path.GetFileName(medium)} was built by moorfield {provenance.Version}"
                    + $"{(provenance.Recipe is { } recipe ? $" by the recipe {recipe}" : "")}, as {statement} says.");
                var sheet = new TextTable("What", "Name", "State", "Recorded", "Found");
                foreach (var part in parts)
                    sheet.Add(part.Role, part.Name, DisplayText.Of(part.State), Short(part.Recorded), Found(part));
                page.Table(sheet);
                page.Line(agrees ? "It is what its provenance says." : "It is not what its provenance says.");
                int absent = parts.Count(p => p.State == VerifiedState.NotHere);
                if (absent > 0)
                    page.Line($"{TextFormat.Count(absent, "file is", "files are")} not in the folder of the provenance, so not compared.");
            },
            () => new ReportRows(["what", "name", "state", "recorded", "found"],
                parts.Select(p => new[] { p.Role, p.Name, DisplayText.Of(p.State), p.Recorded, p.Found ?? "" })),
            () => parts.Where(p => p.State != VerifiedState.NotHere).Select(p => new TestCase(
                "provenance", $"{p.Role} {p.Name}", p.State == VerifiedState.Same ? null : $"differs: {p.Found}"))));
        return agrees ? ExitCode.Done : ExitCode.Differs;
    }

    private static string Found(VerifiedPart part) =>
        part.State == VerifiedState.Differs ? Short(part.Found!) : part.Found is { Length: < DigitsShown * 2 } text ? text : DisplayText.Nothing;

    private static string Short(string recorded) => recorded.Length == 64 ? recorded[..DigitsShown] + "…" : recorded;
}
