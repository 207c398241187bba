using System.Runtime.CompilerServices;
using Moorfield.Core.Layout;
using Moorfield.Core.Model;
using Moorfield.Formats.Hives;
using Moorfield.Tests;

namespace Moorfield.Core.Tests;

/// <summary>The table of places of desktop programs: each says what is done with it, and does so.</summary>
public sealed class ProgramPlaceTests : IDisposable
{
    private readonly TemporaryFolder _folder = new(inMemory: true);

    [Fact]
    public void The_page_lists_the_table()
    {
        string[] rows = [.. File.ReadLines(Path.Combine(Repository(), "docs/on-disk.md")).Where(l => l.StartsWith("| *", StringComparison.Ordinal)
            && !l.StartsWith("| **", StringComparison.Ordinal))];
        rows.ShouldBe(ProgramPlaces.All
            .Select(p => $"| *{p.Id}* | {p.Container} `{p.Path}` | {(p.StaysBecause is { } stays ? $"no: {stays}" : "yes")} "
            + $"| {p.Leftover?.ToString() ?? $"no: {p.NoLeftoverBecause}"} | {(p.NotInSurveysBecause is { } reason ? $"no: {reason}" : "yes")} |"));

        static string Repository([CallerFilePath] string here = "") => Path.GetFullPath(Path.Combine(Path.GetDirectoryName(here)!, "../.."));
    }

    [Fact]
    public void What_a_place_does_not_do_it_says_why() =>
        ProgramPlaces.All.Where(p => (p.Leftover is null) == (p.NoLeftoverBecause is null)).Select(p => p.Id).ShouldBeEmpty();

    [Fact]
    public void A_key_that_leads_into_the_folder_goes_with_the_program_and_comes_back()
    {
        var bench = new Bench(_folder, few: true);
        string HiveOf(ProgramPlace place) => Path.Combine(bench.Root, "Users/rowan", place.Container == ProgramPlaces.UserHive ? "NTUSER.DAT"
            : "AppData/Local/Microsoft/Windows/UsrClass.dat");
        var leading = ProgramPlaces.All.Where(p => p.LeadsIntoFolder).ToList();
        leading.Count.ShouldBe(10);
        foreach (var place in leading)
        {
            HiveEdit.Change(HiveOf(place), h =>
            {
                h.Create(Key(place, 1) + @"\Deeper").Set(HiveValue.FromString("", @"C:\Users\rowan\AppData\Local\CardCounter\part.dll"));
                h.Create(Key(place, 2) + @"\Deeper").Set(HiveValue.FromString("", @"C:\Users\rowan\AppData\Local\Elsewhere\part.dll"));
            });
        }
        string before = VolumeState.Files(bench.Root);
        bench.Remove("Weather", "rowan", more: r => r with
        {
            Programs = [.. DesktopProgramGroup.Of(Bench.FewPackages).Where(p => p.Name == "Card Counter")],
        }).Failures.ShouldBeEmpty();
        leading.Where(p => HiveEdit.HasKey(HiveOf(p), Key(p, 1))).Select(p => p.Id).ShouldBeEmpty();
        leading.Where(p => !HiveEdit.HasKey(HiveOf(p), Key(p, 2))).Select(p => p.Id).ShouldBeEmpty();
        bench.Undo(1).Failures.ShouldBeEmpty();
        VolumeState.Files(bench.Root).ShouldBe(before);

        static string Key(ProgramPlace place, int which) =>
            place.Path.Replace("?", $"{{7E2A4C10-0000-4000-8000-0000000000C{which}}}", StringComparison.Ordinal);
    }

    public void Dispose() => _folder.Dispose();
}
