using System.Text.Json;
using System.Text.Json.Nodes;
using Moorfield.Core.Model;
using Moorfield.Core.Storage;
using Moorfield.Core.Transactions;
using Moorfield.Core.Trees;
using Moorfield.Core.Vaults;
using Moorfield.Tests;

namespace Moorfield.Core.Tests;

/// <summary>Markers and restore points that somebody else wrote.</summary>
public sealed class HostileVaultTests : IDisposable
{
    private readonly TemporaryFolder _folder = new(inMemory: true);
    private readonly Bench _bench;

    public HostileVaultTests() => _bench = new Bench(_folder, few: true);

    private string Document => _folder["vault/points/000001.json"];

    private void Mark(string json) => File.WriteAllText(Path.Combine(_bench.Root, ".moorfield-run.json"), json);

    private static string Marker(object? point, object? vault) => JsonSerializer.Serialize(new Dictionary<string, object?>
    {
        ["point"] = point, ["vault"] = vault, ["rootModified"] = new { seconds = 0, nanoseconds = 0 },
        ["rootAccessed"] = new { seconds = 0, nanoseconds = 0 },
    });

    private MoorfieldException Trouble() => Should.Throw<MoorfieldException>(() =>
    {
        using var volume = WindowsVolume.Open(_bench.Root, new WriteInterceptor());
        var run = InterruptedRun.Find(volume)!;
        var (vault, _) = run.Open(new WriteInterceptor());
        using var open = vault;
        run.Finish(vault, TimeProvider.System);
    });

    [Fact]
    public void A_marker_makes_no_vault()
    {
        Mark(Marker(1, _folder["outside"]));
        Trouble().Message.ShouldContain("is not there");
        Directory.Exists(_folder["outside"]).ShouldBeFalse();
        Directory.CreateDirectory(_folder["outside"]);
        Trouble().Message.ShouldContain("is not there");
        Directory.GetFileSystemEntries(_folder["outside"]).ShouldBeEmpty();
    }

    [Fact]
    public void A_marker_points_to_a_restore_point_that_is_there_and_of_this_target()
    {
        _bench.Remove("Weather", "everyone");
        Mark(Marker(7, _folder["vault"]));
        Trouble().Message.ShouldContain("has no restore point 7");
        var other = new Bench(Demo.CopyFewTo(_folder, "other"), _folder["other-vault"]);
        other.Remove("Calculator", "everyone");
        string journal = _folder["other-vault/points/000001.journal"], before = File.ReadAllText(journal);
        Mark(Marker(1, _folder["other-vault"]));
        Trouble().Message.ShouldContain($"was made on {other.Root}");
        _bench.Read().Packages.ShouldContain(p => p.DisplayName == "Calculator");
        File.ReadAllText(journal).ShouldBe(before);
    }

    [Fact]
    public void A_vault_on_the_volume_itself_is_never_used()
    {
        _bench.Remove("Weather", "everyone");
        Tool.Read("cp", "-a", _folder["vault"], Path.Combine(_bench.Root, "vault"));
        Mark(Marker(1, Path.Combine(_bench.Root, "vault")));
        Trouble().Message.ShouldContain("on the volume itself");
    }

    [Theory]
    [InlineData("")]
    [InlineData("{}")]
    [InlineData("[]")]
    [InlineData("null")]
    [InlineData("{\"point\":null,\"vault\":null}")]
    [InlineData("{\"point\":-1,\"vault\":\"/tmp\"}")]
    [InlineData("{\"point\":1,\"vault\":\"relative\"}")]
    [InlineData("{\"point\":1,\"vault\":\"/tmp/a\\u0000b\"}")]
    [InlineData("{\"point\":99999999999,\"vault\":\"/tmp\"}")]
    [InlineData("{\"point\":1,\"vault\":\"/tmp\",\"rootModified\":{\"seconds\":0,\"nanoseconds\":4000000000},\"rootAccessed\":{\"seconds\":0,\"nanoseconds\":0}}")]
    public void A_marker_that_means_nothing_is_said_in_one_sentence(string json)
    {
        Mark(json);
        Trouble().Message.ShouldContain("which marks an interrupted run, cannot be read");
    }

    public static TheoryData<string, string> Edits() => new()
    {
        { "/kind", "99" }, { "/number", "-1" }, { "/undoes", "-5" }, { "/target", "null" }, { "/target/path", "null" },
        { "/target/path", "\"relative\"" }, { "/target/machineId", "null" },
        { "/target/path", "\"/a\\u0000b\"" }, { "/packages", "null" }, { "/packages/0", "null" }, { "/packages/0/family", "null" },
        { "/packages/0/edition", "-1" },
        { "/files", "null" }, { "/files/0", "null" }, { "/files/0/path", "\"..\\\\outside\"" }, { "/files/0/path", "\"\"" },
        { "/files/0/before", "\"../../../etc/passwd\"" }, { "/files/0/after", "null" },
        { "/files/0/modified", "{\"seconds\":1,\"nanoseconds\":4000000000}" }, { "/changes", "null" }, { "/changes/0", "null" },
        { "/changes/0/kind", "\"nothing\"" },
        { "/changes/0/hive", "\"..\\\\..\\\\SOFTWARE\"" }, { "/changes/0/key", "\"\"" }, { "/changes/0/key", "\"a\\u0000b\"" },
        { "/changes/0/key", "null" }, { "/changes/0/family", "null" },
        { "TREE/path", "\"C:\\\\..\\\\..\\\\x\"" }, { "TREE/path", "\"\\uF72E\"" }, { "TREE/path", "\"a\\\\\\uF72E\\uF72E\"" },
        { "TREE/image/entries", "[]" }, { "TREE/image/entries", "null" }, { "TREE/image/entries/0/path", "\"x\"" },
        { "TREE/image/entries/1/path", "\"\\uF72E\"" }, { "TREE/image/entries/1/path", "\"..\"" }, { "TREE/image/entries/1/path", "\"a\\\\b\"" },
        { "TREE/image/entries/1/size", "-1" }, { "TREE/image/entries/1/mode", "4294967295" },
        { "TREE/image/entries/0/attributes", "null" }, { "TREE/image/entries/1/kind", "\"other\"" },
        { "TREE/image/parentModified", "{\"seconds\":1,\"nanoseconds\":4000000000}" },
        { "ROWS/rows", "null" }, { "ROWS/rows/0", "null" }, { "ROWS/rows/0/table", "null" }, { "ROWS/rows/0/cells", "[]" },
        { "ROWS/rows/0/cells/0/type", "\"sql\"" }, { "ROWS/rows/0/cells/0/value", "\"not a number\"" },
        { "ROWS/rows/0/table", "\"sqlite_master\"" }, { "ROWS/rows/0/table", "\"x\\\"; DROP TABLE Package; --\"" },
        { "/schema", "\"moorfield.restore-point/99\"" },
    };

    [Theory]
    [MemberData(nameof(Edits))]
    public void A_restore_point_that_means_nothing_is_said_in_one_sentence_and_nothing_is_changed(string place, string value)
    {
        _bench.Remove("Weather", "everyone");
        HiveEdit.Change(_bench.Software, hive => hive.Create(@"Saltmarsh\Later")); // change by change
        Tool.Read("sqlite3", _bench.Repository, "INSERT INTO CacheVersion VALUES ('later', 1)");
        var document = JsonNode.Parse(File.ReadAllText(Document))!;
        var changes = document["changes"]!.AsArray();
        int tree = changes.ToList().FindIndex(c => c!["kind"]!.GetValue<string>() == "treeRemoved" && c["image"]!["entries"]!.AsArray().Count > 1);
        int rows = changes.ToList().FindIndex(c => c!["kind"]!.GetValue<string>() == "databaseRowsDeleted");
        Set(document, place.Replace("TREE", $"/changes/{tree}", StringComparison.Ordinal)
            .Replace("ROWS", $"/changes/{rows}", StringComparison.Ordinal), JsonNode.Parse(value));
        File.WriteAllText(Document, document.ToJsonString());
        string before = VolumeState.Files(_bench.Root);
        try
        {
            _bench.Undo(1, verified: false);
            // Only where the point had nothing else to say of what was edited.
            place.ShouldBeOneOf("/kind", "ROWS/rows/0/table");
        }
        catch (MoorfieldException e)
        {
            e.Message.Length.ShouldBeLessThan(500);
            VolumeState.Files(_bench.Root).ShouldBe(before);
        }
        Directory.GetFileSystemEntries(_folder.Path).Select(Path.GetFileName).Order().ShouldBe(["counter-07", "vault"]);
    }

    [Theory]
    [InlineData("/state", "null")]
    [InlineData("/kind", "\"Remove\"")]
    [InlineData("/state/kind", "\"floppy\"")]
    [InlineData("/state/systems", "[]")]
    [InlineData("/state/systems", "null")]
    [InlineData("/state/systems/0", "null")]
    [InlineData("/state/systems/0/edition", "-3")]
    [InlineData("/state/systems/0/entries", "null")]
    [InlineData("/state/systems/0/entries/0/path", "\"..\\\\outside\"")]
    [InlineData("/state/systems/0/entries/0/content", "\"../../../etc/passwd\"")]
    [InlineData("/state/systems/0/entries/0/size", "-1")]
    [InlineData("/state/systems/0/entries/0/kind", "\"nothing\"")]
    [InlineData("/state/systems/0/trees/0/path", "\"C:\\\\..\\\\..\\\\x\"")]
    [InlineData("/state/systems/0/trees/0/family", "null")]
    [InlineData("/state/systems/0/trees/0/tree", "null")]
    [InlineData("/state/systems/0/trees/0/tree/entries", "[]")]
    public void A_recorded_state_that_means_nothing_is_said_in_one_sentence_and_nothing_is_changed(string place, string value)
    {
        _bench.Create();
        _bench.Remove("Weather", "everyone");
        var document = JsonNode.Parse(File.ReadAllText(Document))!;
        Set(document, place, JsonNode.Parse(value));
        File.WriteAllText(Document, document.ToJsonString());
        string before = VolumeState.Files(_bench.Root);
        Should.Throw<MoorfieldException>(() => _bench.Restore(1)).Message.Length.ShouldBeLessThan(500);
        VolumeState.Files(_bench.Root).ShouldBe(before);
    }

    private static void Set(JsonNode document, string place, JsonNode? value)
    {
        string[] names = place.Split('/', StringSplitOptions.RemoveEmptyEntries);
        var node = names[..^1].Aggregate(document, (n, name) => (int.TryParse(name, out int i) ? n[i] : n[name])!);
        if (int.TryParse(names[^1], out int index))
            node[index] = value;
        else
            node[names[^1]] = value;
    }

    [Theory]
    [InlineData("\uf72e")]
    [InlineData("\uf72e\uf72e")]
    [InlineData("a\uf72fb")]
    [InlineData("a\uf700")]
    [InlineData("\uf741")]
    public void A_name_with_an_escape_that_no_file_has_is_no_name(string name)
    {
        Should.Throw<MoorfieldException>(() => UnixName.Encode(name)).Message.ShouldContain("cannot be the name of a file");
    }

    [Fact]
    public void A_journal_that_was_torn_goes_on_behind_the_tear()
    {
        _bench.Remove("Weather", "everyone");
        string journal = _folder["vault/points/000001.journal"];
        string[] lines = File.ReadAllLines(journal);
        File.WriteAllText(journal, string.Join('\n', lines[..^1]) + "\n{\"at\":\"2026-0\0\0\0");
        using (var vault = Vault.OpenExisting(_folder["vault"])!)
            vault.Append(1, new JournalLine(DateTimeOffset.UnixEpoch, JournalLine.Finished));
        _bench.Points().ShouldHaveSingleItem().State.ShouldBe(PointState.InEffect);
    }

    public void Dispose() => _folder.Dispose();
}
