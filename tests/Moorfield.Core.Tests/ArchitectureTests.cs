using System.Runtime.CompilerServices;
using System.Text.RegularExpressions;

namespace Moorfield.Core.Tests;

/// <summary>Holds the arrows of docs/architecture.md: a room uses only rooms below it.</summary>
public sealed class ArchitectureTests
{
    // From the bottom up.
    private static readonly string[] CoreRooms =
        ["Model", "Layout", "Storage", "Trees", "Images", "Disks", "Reading", "Assessment", "Selection", "Vaults", "Planning", "Transactions",
            "Targets", "Fleets", "Operations", "HandOver"];

    private static readonly string[] CliRooms = ["Moorfield.Cli.Host", "Moorfield.Cli.Picking", "Moorfield.Cli.Commands", "Moorfield.Cli"];

    private static readonly string[] FormatRooms = ["Appx", "Hives", "Defaults", "Wim", "Disks", "Ntfs", "Resources", "Media", "Native"];

    private static readonly string[] Projects = ["Moorfield.Formats", "Moorfield.Core", "Moorfield.Reporting", "Moorfield.Cli"];

    // As max_line_length in .editorconfig.
    private const int MaxColumns = 150;

    private static readonly TimeSpan Limit = TimeSpan.FromSeconds(5);

    private static string Root([CallerFilePath] string here = "") => Path.GetFullPath(Path.Combine(Path.GetDirectoryName(here)!, "../../src"));

    /// <summary>All sources of a project: the namespace of each, and what it says without comments and texts.</summary>
    private static IEnumerable<(string File, string Namespace, string Code)> Sources(string project)
    {
        foreach (string file in Directory.EnumerateFiles(Path.Combine(Root(), project), "*.cs", SearchOption.AllDirectories)
            .Where(f => !f.Contains("/obj/", StringComparison.Ordinal) && !f.Contains("/bin/", StringComparison.Ordinal)))
        {
            string text = File.ReadAllText(file);
            string code = Regex.Replace(text, @"//[^\n]*|/\*.*?\*/|""(?:[^""\\\n]|\\.)*""", "",
                RegexOptions.Singleline | RegexOptions.ExplicitCapture, Limit);
            var space = Regex.Match(text, @"^namespace (?<name>[\w.]+);", RegexOptions.Multiline | RegexOptions.ExplicitCapture, Limit);
            yield return (Path.GetRelativePath(Root(), file), space.Groups["name"].Value, code);
        }
    }

    [Fact]
    public void Every_room_of_the_core_is_known_and_holds_what_lies_in_its_folder()
    {
        var sources = Sources("Moorfield.Core").ToList();
        sources.Count.ShouldBeGreaterThan(80);
        foreach (var (file, name, _) in sources)
            name.ShouldBe("Moorfield.Core." + file.Split('/')[1], file);
        sources.Select(s => s.Namespace.Split('.')[^1]).Distinct().ShouldBe(CoreRooms, ignoreOrder: true);
    }

    [Fact]
    public void Rooms_of_the_core_use_only_rooms_below_them()
    {
        var wrong = new List<string>();
        foreach (var (file, name, code) in Sources("Moorfield.Core"))
        {
            int own = Array.IndexOf(CoreRooms, name.Split('.')[^1]);
            // Rooms that lie beside each other can be named without a using line: those names count as well.
            wrong.AddRange(CoreRooms.Skip(own + 1)
                .Where(above => Regex.IsMatch(
                    code, $@"\bMoorfield\.Core\.{above}\b|(?<![\w.]){above}\.[A-Z]\w*", RegexOptions.ExplicitCapture, Limit))
                .Select(above => $"{file} uses {above}"));
        }
        wrong.ShouldBeEmpty();
    }

    // Files outside of Core/Storage that make, write, move or delete files by their names, and why they may.
    private static readonly Dictionary<string, string> Writers = new()
    {
        ["Moorfield.Core/Reading/StateRepository.cs"] = "a copy of a database in a temporary folder of a random name, which SQLite needs",
        ["Moorfield.Core/Vaults/Vault.cs"] = "makes the vault's own folder where a person wants it",
        ["Moorfield.Core/Vaults/VaultKeyFile.cs"] = "makes the folder for the vault's key where a person wants it",
        ["Moorfield.Core/Transactions/DiskMarker.cs"] = "makes the folder for markers of devices in the person's own state folder",
        ["Moorfield.Core/Fleets/FleetFile.cs"] = "a database that a person names, which SQLite writes",
        ["Moorfield.Core/Selection/BriefFetcher.cs"] = "the cache of fetched briefs in the person's own cache folder",
        ["Moorfield.Core/Operations/MediaImageBuilder.cs"] = "deletes parts of an image in its own work folder as soon as they are used",
        ["Moorfield.Core/Operations/MediaUnpacker.cs"] = "makes the folder that a person names, and folders in its own work folder",
        ["Moorfield.Cli/Commands/DemoCommand.cs"] = "lays out the demo data, which no restore point knows, in a folder that a person names",
        ["Moorfield.Cli/Commands/DemoFleet.cs"] = "the same, of many machines",
        ["Moorfield.Core/Operations/RunLog.cs"] = "appends to the run log",
        ["Moorfield.Formats/Disks/DiskServer.cs"] = "the socket of qemu-nbd in a temporary folder of a random name",
        ["Moorfield.Formats/Appx/PackageArchive.cs"] = "a temporary file without a name, made anew",
    };

    [Fact]
    public void Only_the_room_of_storage_makes_and_changes_files_by_their_names()
    {
        const string Change = @"\bFile\.(Write\w+|Create\w*|Open\(|OpenWrite|Delete|Move|Copy|Append\w+|Replace|Set\w+)|"
            + @"\bDirectory\.(Create\w+|Delete|Move|Set\w+)|\bFileMode\.(?!Open\b)|\bFileAccess\.(Write|ReadWrite)\b|\bnew StreamWriter\(";
        var found = Projects.SelectMany(Sources)
            .Where(s => !s.File.StartsWith("Moorfield.Core/Storage/", StringComparison.Ordinal)
                && Regex.IsMatch(s.Code, Change, RegexOptions.ExplicitCapture, Limit))
            .Select(s => s.File).ToList();
        found.Except(Writers.Keys).ShouldBeEmpty("Files are written by Core/Storage.");
        Writers.Keys.Except(found).ShouldBeEmpty("These no longer need to be excepted.");
    }

    [Fact]
    public void What_plans_cannot_open_or_change_anything()
    {
        // Facts are handed in, and records of restore points are data.
        const string Opening = @"\bVault\b|\bWindowsTree\b|\bITreeProvider\b|\bFileStream\b|\bStream\b|"
            + @"\bSafeFileHandle\b|\bSqlite\w+|(?<![\w.])File\.|(?<![\w.])Directory\.|"
                + @"\bnew FileInfo\b|\bHiveKey\b|(?<![\w.])Hive\.Open|\bListFile\b|\bProcess\b|\bConsole\b";
        string[] rooms = ["Assessment", "Planning"];
        var sources = Sources("Moorfield.Core").Where(s => rooms.Contains(s.Namespace.Split('.')[^1])).ToList();
        sources.Where(s => Regex.IsMatch(s.Code, Opening, RegexOptions.ExplicitCapture, Limit)).Select(s => s.File).ShouldBeEmpty();
        string[] pure = ["Model", "Layout", "Assessment", "Selection", "Vaults", "Planning"];
        sources.Where(s => Regex.Matches(s.Code, @"^using Moorfield\.Core\.(?<room>\w+);", RegexOptions.ExplicitCapture | RegexOptions.Multiline,
            Limit)
            .Any(m => !pure.Contains(m.Groups["room"].Value))).Select(s => s.File).ShouldBeEmpty();
    }

    [Theory]
    [InlineData("Moorfield.Core")]
    [InlineData("Moorfield.Reporting")]
    [InlineData("Moorfield.Cli")]
    public void Nothing_outside_of_Targets_asks_of_what_kind_a_target_or_a_tree_is(string project)
    {
        const string Kinds = "(?:Image|Disk|Volume|Saved|Survey|Recorded)Target|SurveyTree|WimEdition|DiskVolume|WindowsVolume|ImageFile";
        Sources(project).Where(s => !s.File.StartsWith("Moorfield.Core/Targets/", StringComparison.Ordinal)
            && Regex.IsMatch(s.Code, $@"\b(?:is|is not|as|case) (?:{Kinds})\b|(?<!typeof)\((?:{Kinds})\)|^ *(?:{Kinds})(?: \w+)? =>",
                RegexOptions.ExplicitCapture | RegexOptions.Multiline, Limit))
            .Select(s => s.File).ShouldBeEmpty("What differs by kind is a member of the target or the tree.");
    }

    [Fact]
    public void Files_of_tests_are_called_like_a_class_in_them()
    {
        string tests = Path.GetFullPath(Path.Combine(Root(), "../tests"));
        string[] wrong = [.. Directory.EnumerateFiles(tests, "*.cs", SearchOption.AllDirectories)
            .Where(f => !f.Contains("/obj/", StringComparison.Ordinal) && !f.Contains("/bin/", StringComparison.Ordinal))
            .Where(f => !Regex.IsMatch(File.ReadAllText(f), $@"\b(class|record|enum) {Path.GetFileNameWithoutExtension(f)}\b",
                RegexOptions.ExplicitCapture, Limit))];
        wrong.ShouldBeEmpty("'./run test -class NAME' must find what a file is called.");
    }

    [Fact]
    public void Formats_stand_alone()
    {
        var wrong = new List<string>();
        foreach (var (file, name, code) in Sources("Moorfield.Formats"))
        {
            // All stand on Native, and Ntfs on Disks; BitLocker is a part of Disks.
            wrong.AddRange(FormatRooms.Where(f => f != "Native" && !(f == "Disks" && name.EndsWith(".Ntfs", StringComparison.Ordinal))
                && !$"{name}.".Contains($".{f}.", StringComparison.Ordinal)
                && Regex.IsMatch(code, $@"\bMoorfield\.Formats\.{f}\b", RegexOptions.ExplicitCapture, Limit)).Select(f => $"{file} uses {f}"));
        }
        wrong.ShouldBeEmpty();
    }

    [Fact]
    public void Rooms_of_the_program_use_only_rooms_below_them()
    {
        var wrong = new List<string>();
        foreach (var (file, name, code) in Sources("Moorfield.Cli"))
        {
            wrong.AddRange(CliRooms.Skip(Array.IndexOf(CliRooms, name) + 1)
                .Where(above => Regex.IsMatch(
                    code, $@"using {Regex.Escape(above)};|(?<![\w.])({above.Split('.')[^1]}|Program)\.[A-Z]\w*", RegexOptions.ExplicitCapture, Limit))
                .Select(above => $"{file} uses {above}"));
        }
        wrong.ShouldBeEmpty();
    }

    [Fact]
    public void Projects_use_only_projects_below_them()
    {
        var wrong = new List<string>();
        for (int i = 0; i < Projects.Length; i++)
        {
            string project = File.ReadAllText(Path.Combine(Root(), Projects[i], $"{Projects[i]}.csproj"));
            wrong.AddRange(Projects.Skip(i + 1).Where(p => project.Contains($"{p}.csproj", StringComparison.Ordinal))
                .Select(p => $"{Projects[i]} uses {p}"));
        }
        string standIn = File.ReadAllText(Path.Combine(Root(), "Moorfield.StandIn/Moorfield.StandIn.csproj"));
        wrong.AddRange(Projects.Skip(1).Where(p => standIn.Contains($"{p}.csproj", StringComparison.Ordinal))
            .Select(p => $"Moorfield.StandIn uses {p}"));
        wrong.ShouldBeEmpty();
    }

    [Theory]
    [InlineData("Moorfield.Formats")]
    [InlineData("Moorfield.Core")]
    [InlineData("Moorfield.Reporting")]
    [InlineData("Moorfield.Cli")]
    [InlineData("Moorfield.StandIn")]
    public void Lines_end_where_editorconfig_says(string project) => Sources(project)
        .SelectMany(s => File.ReadLines(Path.Combine(Root(), s.File)).Index().Where(l => l.Item.Length > MaxColumns)
            .Select(l => $"{s.File}:{l.Index + 1}"))
        .ShouldBeEmpty();

    [Theory]
    [InlineData("Moorfield.Core")]
    [InlineData("Moorfield.Formats")]
    public void Nothing_below_the_program_speaks_to_a_console(string project) =>
        Sources(project).Where(s => Regex.IsMatch(s.Code, @"\bConsole\.|\bSpectre\b", RegexOptions.ExplicitCapture, Limit))
            .Select(s => s.File).ShouldBeEmpty();
}
