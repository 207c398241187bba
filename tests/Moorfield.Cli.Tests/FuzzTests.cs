using System.Text.Json.Nodes;
using System.Text;
using Moorfield.Tests;

namespace Moorfield.Cli.Tests;

/// <summary>
/// Spoils what the program reads, by a seed, and runs it: it must end with a documented exit code and a sentence, within 10 seconds of
/// processor time and 300 MB.
/// MOORFIELD_FUZZ says how many cases of each kind, MOORFIELD_SEED where they begin.
/// </summary>
public sealed class FuzzTests : CliTest
{
    private const int MaxSeconds = 10;
    private const int MaxKilobytes = 300 * 1024;
    private static readonly int Cases = Number("MOORFIELD_FUZZ", 3);
    private static readonly int FirstSeed = Number("MOORFIELD_SEED", Random.Shared.Next());

    // Runs a program, and says how it ended and how much memory it took: Linux tells that only to the parent.
    private const string Measure = """
        import resource, subprocess, sys
        limit = lambda: resource.setrlimit(resource.RLIMIT_CPU, (int(sys.argv[1]), int(sys.argv[1])))
        run = subprocess.run(sys.argv[2:], stdin=subprocess.DEVNULL, capture_output=True, preexec_fn=limit)
        sys.stdout.buffer.write(run.stdout); sys.stderr.buffer.write(run.stderr); code = run.returncode
        print(f"\n{code} {resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss}")
        """;

    private readonly ITestOutputHelper _output;

    public FuzzTests(ITestOutputHelper output) => _output = output;

    private static int Number(string variable, int otherwise) =>
    int.TryParse(Environment.GetEnvironmentVariable(variable), out int number) ? number : otherwise;

    private void Try(string story, params string[] arguments)
    {
        var outcome = Tool.Run("python3", ["-c", Measure, $"{MaxSeconds}", .. Command(arguments)],
        new Dictionary<string, string> { ["MOORFIELD_VAULT"] = Vault, ["XDG_CACHE_HOME"] = Folder["cache"] }, null);
        string[] end = outcome.Output.TrimEnd().Split('\n')[^1].Split(' ');
        story = $"{story}: moorfield {string.Join(' ', arguments)}\n{outcome.Error}";
        int.Parse(end[0]).ShouldBeInRange(0, 5, story);
        int.Parse(end[1]).ShouldBeLessThan(MaxKilobytes, story);
        outcome.Error.ShouldNotContain("should not have happened", Case.Insensitive, story);
        outcome.Error.ShouldNotContain("   at ", Case.Sensitive, story);
    }

    /// <summary>Does something for a number of seeds, each time on a fresh system of few packages.</summary>
    private void ForSeeds(string kind, Action<Random, string, string> use)
    {
        for (int i = 0; i < Cases; i++)
        {
            int seed = FirstSeed + i;
            string story = $"{kind}, MOORFIELD_SEED={seed} MOORFIELD_FUZZ=1";
            _output.WriteLine(story);
            string root = Demo.CopyFewTo(Folder, "few");
            use(new Random(seed), root, story);
            Tool.Read("rm", "-rf", root, Vault);
        }
    }

    /// <summary>Alters some bytes of a file, or cuts it, or repeats a piece.</summary>
    private static void Spoil(Random random, string path)
    {
        byte[] bytes = File.ReadAllBytes(path);
        switch (random.Next(8))
        {
            case 0:
                bytes = bytes[..random.Next(bytes.Length + 1)];
                break;
            case 1 when bytes.Length > 0:
                int from = random.Next(bytes.Length);
                bytes = [.. bytes, .. bytes[from..Math.Min(bytes.Length, from + random.Next(5000))]];
                break;
            case 2 when bytes.Length > 16:
                // A number that is far off.
                byte[] number = BitConverter.GetBytes(new[] { 0, -1, int.MaxValue, int.MinValue, 0x7fffff00, 0x1000 }[random.Next(6)]);
                number.CopyTo(bytes, random.Next(bytes.Length - 4) & ~3);
                break;
            default:
                for (int n = random.Next(1, 40); n > 0 && bytes.Length > 0; n--)
                    bytes[random.Next(bytes.Length)] = (byte)random.Next(256);
                break;
        }
        File.WriteAllBytes(path, bytes);
    }

    private static string Any(Random random, string root, string pattern)
    {
        string[] files = [.. Directory.GetFiles(root, pattern, SearchOption.AllDirectories).Order(StringComparer.Ordinal)];
        return files[random.Next(files.Length)];
    }

    private string[] Removal(string root) => ["remove", root, "Weather", "Calculator", "--for", "everyone", "--yes", "--accept-costs"];

    [Fact]
    public void Hives() => ForSeeds("hive", (random, root, story) =>
    {
        string hive = Any(random, root, new[] { "SOFTWARE", "UsrClass.dat", "NTUSER.DAT" }[random.Next(3)]);
        Spoil(random, hive);
        if (random.Next(2) == 0 && new FileInfo(hive).Length > 512)
            HiveEdit.MakeClean(hive);
        Try(story, "inventory", root);
        Try(story, Removal(root));
        Try(story, "remove", root, "--leftovers", "--yes");
    });

    [Fact]
    public void Manifests() => ForSeeds("manifest", (random, root, story) =>
    {
        string manifest = Any(random, root, "AppxManifest.xml");
        if (random.Next(2) == 0)
            Spoil(random, manifest);
        else
            Reword(random, manifest,
                ["<", "&#0;", "&x;", "<!DOCTYPE a>", "\"", "99999999999999999999", "ms-resource:", "]]>", "<Extension Category=\"",
                new string('a', 70_000)]);
        Try(story, "inventory", root, "--all");
        Try(story, "explain", root, "Weather");
        Try(story, Removal(root));
    });

    [Fact]
    public void Lists() => ForSeeds("list", (random, root, story) =>
    {
        string list = Directory.GetFiles(root, "OEMDefaultAssociations.xml", SearchOption.AllDirectories)
        .Concat(Directory.GetFiles(root, "LayoutModification.json", SearchOption.AllDirectories)).Order().ToArray()[random.Next(2) == 0 ? 0 : ^1];
        Reword(random, list, ["<", "{", "}", "[", "]", "\"", ",", "&#0;", "\0", "null"]);
        Try(story, "inventory", root);
        Try(story, Removal(root));
    });

    [Fact]
    public void Repositories() => ForSeeds("repository", (random, root, story) =>
    {
        string repository = Any(random, root, "*.srd");
        switch (random.Next(3))
        {
            case 0:
                Spoil(random, repository);
                break;
            case 1:
                string[] schema =
                [
                    "UPDATE sqlite_master SET sql = replace(sql, 'INTEGER', 'TEXT') WHERE name = 'Package'",
                    "UPDATE sqlite_master SET rootpage = abs(random() % 9) WHERE type = 'table' AND abs(random() % 3) = 0",
                    "UPDATE sqlite_master SET sql = substr(sql, 1, abs(random() % 80)) WHERE abs(random() % 5) = 0",
                    "UPDATE sqlite_master SET type = 'view' WHERE name = 'PackageUser'",
                    "UPDATE sqlite_master SET name = 'Package' WHERE name = 'CacheVersion'", "INSERT INTO sqlite_master SELECT * FROM sqlite_master",
                    "UPDATE sqlite_master SET tbl_name = 'User' WHERE type = 'index'",
                    "UPDATE sqlite_master SET sql = sql || ' WITHOUT ROWID' WHERE type = 'table' AND abs(random() % 4) = 0",
                    "CREATE VIRTUAL TABLE v USING fts5(Package)", "PRAGMA encoding='UTF-16'",
                ];
                Tool.Run("sqlite3", [repository], null,
                    $".dbconfig defensive off\n.dbconfig writable_schema on\n{schema[random.Next(schema.Length)]};\n");
                break;
            default:
                string[] rows =
                [
                    "UPDATE Package SET PackageFullName = zeroblob(100000)", "UPDATE PackageUser SET Package = 'x'",
                    "UPDATE User SET UserSid = NULL", "UPDATE PackageFamily SET PackageFamilyName = char(0) || PackageFamilyName",
                    "UPDATE Package SET PackageFullName = CAST(x'ff00fe' AS TEXT) WHERE _PackageID % 2",
                    "UPDATE Application SET Package = -9223372036854775808", "UPDATE PackageUserStatus SET Payload = 1e999",
                    "UPDATE Package SET PackageFamily = 9e300", "UPDATE PackageUserStatus SET PackageUser = PackageUser + 0.5",
                ];
                var chosen = Enumerable.Range(0, 3).Select(_ => rows[random.Next(rows.Length)].Replace("UPDATE ", "UPDATE OR IGNORE "));
                Tool.Run("sqlite3", [repository], null, $"PRAGMA ignore_check_constraints=1;\n{string.Join(";\n", chosen)};\n");
                break;
        }
        Try(story, "inventory", root);
        Try(story, Removal(root));
        Try(story, "undo", root, "--yes");
    });

    [Fact]
    public void Images() => ForSeeds("image", (random, root, story) =>
    {
        string image = Demo.CopyImageTo(Folder, "fuzzed.wim");
        byte[] bytes = File.ReadAllBytes(image);
        // Where it hurts: the header, or the tables at the end, rather than contents.
        int start = random.Next(3) switch { 0 => 0, 1 => Math.Max(0, bytes.Length - 60_000), _ => random.Next(bytes.Length) };
        int length = start == 0 ? 208 : bytes.Length - start;
        for (int n = random.Next(1, 12); n > 0; n--)
            bytes[start + random.Next(length)] = (byte)random.Next(256);
        File.WriteAllBytes(image, bytes);
        Try(story, "image", "list", image);
        Try(story, "inventory", image, "--edition", "1");
        Try(story, "remove", image, "Weather", "--yes");
        Try(story, "image", "compact", image, "--yes");
        Try(story, "undo", image, "--yes");
        File.Delete(image);
    });

    [Fact]
    public void Briefs() => ForSeeds("brief", (random, root, story) =>
    {
        string brief = Folder["fuzzed.brief.yaml"];
        File.WriteAllText(brief,
            "brief: 1\ntitle: Counters\nfor: everyone\nremove:\n  - package: Weather\n    because: a barometer\n  - publisher: [Pennywhistle "
                + "Games]\n    larger-than: 1 KB\nkeep:\n  - Calculator\nblock:\n  - Northlight.PartyChat_8pewgm0k42rsa\nguard:\n  - hive: "
                + "machine\n    key: Policies\\X\n    name: Y\n    type: dword\n    data: 1\n");
        Reword(random, brief,
            ["[", "{", "&a ", "*a", "!!binary ", "- ", ": ", "\t", "\0", "'", "|", "99999999999999999999", "~", "include: [fuzzed.brief.yaml]\n",
            new string('[', 5000), "\ufeff"]);
        Try(story, "brief", "show", brief, "--on", root);
        Try(story, "check", root, "--brief", brief);
        Try(story, "remove", root, "--brief", brief, "--yes", "--accept-costs");
    });

    [Fact]
    public void Registry_texts() => ForSeeds("registry text", (random, root, story) =>
    {
        string text = Folder["fuzzed.reg"];
        File.Delete(text);
        Run("block", root, "--to", text);
        Run("block", root, Demo.Family("Northlight.Weather"), "--yes");
        File.Delete(text);
        Run("block", root, "--to", text).ExitCode.ShouldBe(0);
        Spoil(random, text);
        Try(story, "block", root, "--from", text, "--yes");
    });

    [Fact]
    public void Restore_points() => ForSeeds("restore point", (random, root, story) =>
    {
        Run(Removal(root)).ExitCode.ShouldBe(0);
        if (random.Next(2) == 0)
            HiveEdit.Change(HiveEdit.Software(root), hive => hive.Create(@"Saltmarsh\Later")); // so that the undo goes change by change
        string document = Path.Combine(Vault, "points/000001.json");
        switch (random.Next(4))
        {
            case 0:
                Spoil(random, document);
                break;
            case 1:
                Spoil(random, Path.Combine(Vault, "points/000001.journal"));
                break;
            case 2:
                Spoil(random, Any(random, Path.Combine(Vault, "blobs"), "*.zst"));
                break;
            default:
                var json = JsonNode.Parse(File.ReadAllText(document))!;
                for (int n = random.Next(1, 4); n > 0; n--)
                    Alter(random, json);
                File.WriteAllText(document, json.ToJsonString());
                break;
        }
        Try(story, "restore-point", "list");
        Try(story, "restore-point", "show", "1", "--all");
        Try(story, "undo", root, "1", "--yes");
        Try(story, "undo", root, "1", "--yes", "--overwrite");
    });

    [Fact]
    public void Markers() => ForSeeds("marker", (random, root, story) =>
    {
        RunInjected($"unlinkat:signal=KILL:when={random.Next(60, 100)}", Removal(root));
        string marker = Path.Combine(root, ".moorfield-run.json");
        if (!File.Exists(marker))
            return;
        if (random.Next(2) == 0)
        {
            Spoil(random, marker);
        }
        else
        {
            var json = JsonNode.Parse(File.ReadAllText(marker))!;
            Alter(random, json);
            File.WriteAllText(marker, json.ToJsonString());
        }
        Try(story, "inventory", root);
        Try(story, "restore-point", "finish", root);
        Try(story, "undo", root, "--yes");
    });

    /// <summary>Puts odd words into a text, or takes pieces out of it.</summary>
    private static void Reword(Random random, string path, string[] words)
    {
        var text = new StringBuilder(File.ReadAllText(path));
        for (int n = random.Next(1, 5); n > 0; n--)
        {
            int at = random.Next(text.Length);
            if (random.Next(3) == 0)
                text.Remove(at, Math.Min(text.Length - at, random.Next(60)));
            else
                text.Insert(at, words[random.Next(words.Length)]);
        }
        File.WriteAllText(path, text.ToString());
    }

    /// <summary>Replaces something somewhere in a document.</summary>
    private static void Alter(Random random, JsonNode node)
    {
        for (int depth = random.Next(1, 8); depth > 0; depth--)
        {
            var next = node switch
            {
                JsonObject { Count: > 0 } entries => entries.ElementAt(random.Next(entries.Count)).Value,
                JsonArray { Count: > 0 } items => items[random.Next(items.Count)],
                _ => null,
            };
            if (next is not (JsonObject or JsonArray) || depth == 1)
                break;
            node = next;
        }
        JsonNode? odd = random.Next(10) switch
        {
            0 => null,
            1 => JsonValue.Create(""),
            2 => JsonValue.Create("a\0b"),
            3 => JsonValue.Create(-1),
            4 => JsonValue.Create(long.MaxValue),
            5 => JsonValue.Create(1e300),
            6 => new JsonArray(),
            7 => new JsonObject(),
            8 => JsonValue.Create("..\\..\\outside"),
            _ => JsonValue.Create("\uf72e"),
        };
        if (node is JsonObject { Count: > 0 } o)
            o[o.ElementAt(random.Next(o.Count)).Key] = odd;
        else if (node is JsonArray { Count: > 0 } a)
            a[random.Next(a.Count)] = odd;
    }
}
