using System.Text;
using CsCheck;
using Moorfield.Core.Model;
using Moorfield.Core.Storage;
using Moorfield.Core.Vaults;
using Moorfield.Tests;

namespace Moorfield.Core.Tests;

public sealed class VaultTests : IDisposable
{
    private readonly TemporaryFolder _folder = new(inMemory: true);

    private Vault Open() => Vault.Open(_folder["vault"], new WriteInterceptor());

    private static RestorePoint Point(string title, RunKind kind = RunKind.Remove, int? undoes = null, params string[] families) => new(
        0, kind, undoes, DateTimeOffset.UnixEpoch, title, null, new TargetIdentity("/mnt", "COUNTER-07", "guid", "", ""),
        [.. families.Select(f => new ConcernedPackage(f, f))], [], []);

    private static void Finish(Vault vault, RestorePoint point, bool failed = false)
    {
        if (failed)
            vault.Append(point.Number, new JournalLine(DateTimeOffset.UnixEpoch, "failed", "a folder", "No."));
        vault.Append(point.Number, new JournalLine(DateTimeOffset.UnixEpoch, "finished"));
    }

    private static string Keep(Vault vault, byte[] content)
    {
        using var file = FileContent.InMemory(content);
        return vault.Keep(file);
    }

    [Fact]
    public void Any_content_comes_out_of_the_vault_as_it_went_in()
    {
        using var vault = Open();
        Gen.Byte.Array[0, 5000].Sample(
            content =>
            {
                string hash = Keep(vault, content);
                hash.ShouldBe(Convert.ToHexStringLower(System.Security.Cryptography.SHA256.HashData(content)));
                vault.ReadBlob(hash).ShouldBe(content);
            },
            iter: 50, threads: 1);
    }

    [Fact]
    public void What_is_kept_behind_gets_its_names_and_a_full_disk_is_told_to_whoever_waits_for_one()
    {
        byte[][] contents = [.. new[] { 0, 5, 3 << 20 }.Select(length => Enumerable.Range(0, length).Select(i => (byte)(i >> 8)).ToArray())];
        bool full = false;
        using var vault = Vault.Open(_folder["vault"], new WriteInterceptor((kind, _) =>
        {
            if (full && kind == WriteKind.Write)
                throw new MoorfieldException(ErrorKind.Failed, "No space left on device.");
        }));
        using (var behind = new BackgroundBlobWriter(vault))
        {
            var names = contents.Select(c => behind.Keep(InMemory(c))).ToList();
            names.Zip(contents).ShouldAllBe(k => vault.ReadBlob(k.First()).SequenceEqual(k.Second));
            behind.Finish();
        }
        full = true;
        using var failing = new BackgroundBlobWriter(vault);
        var waiting = failing.Keep(InMemory([1]));
        Should.Throw<MoorfieldException>(() => waiting()).Message.ShouldContain("No space left");
        Should.Throw<MoorfieldException>(() => failing.Keep(InMemory([2])));

        static InMemoryContent InMemory(byte[] content) => new(content.Length, take =>
        {
            take(content.AsSpan(0, content.Length / 2));
            take(content.AsSpan(content.Length / 2));
        });
    }

    [Fact]
    public void The_same_content_is_kept_once_and_compressed()
    {
        using var vault = Open();
        byte[] content = Encoding.UTF8.GetBytes(string.Concat(Enumerable.Repeat("berth seven ", 50_000)));
        Keep(vault, content).ShouldBe(Keep(vault, content));
        new FileInfo(Directory.EnumerateFiles(_folder["vault/blobs"], "*.zst", SearchOption.AllDirectories)
            .ShouldHaveSingleItem()).Length.ShouldBeLessThan(content.Length / 100);
        Directory.EnumerateFiles(_folder["vault/blobs"]).ShouldBeEmpty();
    }

    [Theory]
    [InlineData("0000000000000000000000000000000000000000000000000000000000000000")]
    [InlineData("../../../etc/passwd")]
    [InlineData("")]
    public void A_content_that_is_not_there_is_said_to_be_lost(string hash)
    {
        using var vault = Open();
        Should.Throw<MoorfieldException>(() => vault.ReadBlob(hash)).Message.ShouldContain("has lost the content");
    }

    [Fact]
    public void Points_are_numbered_one_after_the_other_whoever_writes_them()
    {
        using var one = Open();
        using var two = Open();
        int[] numbers = [one.Begin(Point("a")).Number, two.Begin(Point("b")).Number, one.Begin(Point("c")).Number];
        numbers.ShouldBe([1, 2, 3]);
        one.Read(2).Title.ShouldBe("b");
        two.Abandon(3);
        one.Numbers().ShouldBe([1, 2]);
    }

    [Theory]
    [InlineData("")]
    [InlineData("{")]
    [InlineData("{\"schema\":\"moorfield.restore-point-head/1\",\"documentBytes\":1,\"head\":null}")]
    [InlineData(null)]
    public void Without_a_head_that_is_that_of_its_document_the_document_is_read(string? head)
    {
        using var vault = Open();
        vault.Begin(Point("first", families: "a"));
        string file = _folder["vault/points/000001.head"];
        File.ReadAllText(file).ShouldContain("\"title\":\"first\"");
        File.WriteAllText(file, head
            ?? File.ReadAllText(file).Replace("\"title\":\"first\"", "\"title\":\"forged\"").Replace("\"documentBytes\":", "\"documentBytes\":9"));
        using var again = Open();
        again.Head(1).Title.ShouldBe("first");
    }

    [Fact]
    public void A_list_reads_heads_and_no_documents()
    {
        using (var vault = Open())
            Finish(vault, vault.Begin(Point("first", families: "a")));
        string document = _folder["vault/points/000001.json"];
        File.WriteAllBytes(document, new byte[new FileInfo(document).Length]);
        using var again = Open();
        PointHistory.Read(again, message => throw new InvalidOperationException(message)).ShouldHaveSingleItem().Point.Title.ShouldBe("first");
        Should.Throw<MoorfieldException>(() => again.Read(1)).Message.ShouldContain("damaged");
    }

    [Fact]
    public void A_point_is_on_the_disk_before_its_number_is_given_away()
    {
        var steps = new List<WriteKind>();
        using var vault = Vault.Open(_folder["vault"], new WriteInterceptor((kind, _) => steps.Add(kind)));
        Keep(vault, [1, 2, 3]);
        steps.Clear();
        vault.Begin(Point("a"));
        WriteKind[] head = [WriteKind.Create, WriteKind.Write, WriteKind.Rename];
        WriteKind[] document = [WriteKind.Create, WriteKind.Write, WriteKind.Flush, WriteKind.Rename, WriteKind.Flush];
        steps.ShouldBe([WriteKind.Flush, .. head, .. document]);
    }

    [Fact]
    public void A_deletion_is_on_the_disk_when_it_is_said_to_be_made_and_numbers_are_not_given_twice()
    {
        var steps = new List<(WriteKind Kind, string Name)>();
        using (var vault = Vault.Open(_folder["vault"], new WriteInterceptor((kind, name) => steps.Add((kind, Path.GetFileName(name))))))
        {
            for (int i = 0; i < 7; i++)
                vault.Begin(Point("a"));
            steps.Clear();
            vault.Delete([7]);
            steps.Where(s => s.Kind == WriteKind.Delete).Select(s => s.Name).ShouldBe(["000007.json", "000007.head"]);
            steps[^1].Kind.ShouldBe(WriteKind.Flush);
            vault.Begin(Point("b")).Number.ShouldBe(8);
        }
        foreach (var (highest, next) in new[] { ("20", 21), ("-5", 22), ("2147483646", 23), ("no number", 24) })
        {
            File.WriteAllText(_folder["vault/points/highest"], highest);
            using var again = Open();
            again.Begin(Point("c")).Number.ShouldBe(next);
        }
        Directory.Delete(_folder["vault"], recursive: true);
        using var fresh = Open();
        File.WriteAllText(_folder["vault/points/highest"], "-5");
        fresh.Begin(Point("d")).Number.ShouldBe(1);
    }

    [Fact]
    public void What_is_without_its_document_and_parts_of_one_are_strays()
    {
        using var vault = Open();
        Finish(vault, vault.Begin(Point("a")));
        Finish(vault, vault.Begin(Point("b")));
        vault.StrayNames().ShouldBeEmpty();
        vault.KeepReport(2, [1]);
        File.Delete(_folder["vault/points/000002.json"]);
        File.WriteAllText(_folder["vault/points/000002.txt"], "somebody else's");
        File.WriteAllText(_folder["vault/points/notes"], "somebody else's");
        vault.StrayNames().Order(StringComparer.Ordinal).ShouldBe(["000002.head", "000002.journal", "000002.report"]);
        // A number that a cut-off run had is given again, without the other one's journal.
        vault.Begin(Point("c")).Number.ShouldBe(2);
        vault.Journal(2).ShouldBeEmpty();
        vault.ReadReport(2).ShouldBeNull();
        vault.Journal(1).Count.ShouldBe(1);
    }

    [Fact]
    public void A_report_stays_with_its_restore_point_and_goes_with_it()
    {
        using var vault = Open();
        Finish(vault, vault.Begin(Point("a")));
        Finish(vault, vault.Begin(Point("b")));
        vault.ReadReport(2).ShouldBeNull();
        byte[] report = Encoding.UTF8.GetBytes(string.Concat(Enumerable.Repeat("berth seven ", 5000)));
        vault.KeepReport(2, report);
        vault.ReadReport(2).ShouldBe(report);
        vault.ReadReport(1).ShouldBeNull();
        vault.KeepReport(1, []);
        vault.ReadReport(1).ShouldBe([]);
        vault.ReadBlob(Keep(vault, [4, 5])).ShouldBe([4, 5], "what compresses is still there");
        new FileInfo(_folder["vault/points/000002.report"]).Length.ShouldBeLessThan(1000);
        File.GetUnixFileMode(_folder["vault/points/000002.report"]).ShouldBe(UnixFileMode.UserRead | UnixFileMode.UserWrite);
        Should.Throw<MoorfieldException>(() => vault.KeepReport(3, report)).Message.ShouldContain("no restore point 3");
        var sound = new Dictionary<string, bool>();
        VaultMaintenance.Verify(vault, 2, sound).ShouldBeEmpty();
        byte[] stored = File.ReadAllBytes(_folder["vault/points/000002.report"]);
        foreach (byte[] spoilt in new byte[][] { [], [1, 2, 3], stored[..^4], [.. stored[..^9], (byte)(stored[^9] ^ 1), .. stored[^8..]] })
        {
            File.WriteAllBytes(_folder["vault/points/000002.report"], spoilt);
            var fault = VaultMaintenance.Verify(vault, 2, sound).ShouldHaveSingleItem();
            (fault.Number, fault.Text).ShouldBe((2, "The report of restore point 2 is damaged. Undoing does not need it."));
            vault.Read(2).Title.ShouldBe("b");
        }
        vault.StrayNames().ShouldBeEmpty();
        vault.Delete([2]);
        File.Exists(_folder["vault/points/000002.report"]).ShouldBeFalse();
        File.WriteAllBytes(_folder["vault/points/000002.report"], stored);
        vault.StrayNames().ShouldBe(["000002.report"]);
    }

    [Fact]
    public void A_content_that_was_read_is_closed()
    {
        using var vault = Open();
        vault.ReadBlob(Keep(vault, [1, 2, 3]));
        Directory.GetFileSystemEntries("/proc/self/fd").Select(f => new FileInfo(f).LinkTarget ?? "")
            .ShouldNotContain(t => t.StartsWith(_folder["vault/blobs"], StringComparison.Ordinal) && t.EndsWith(".zst", StringComparison.Ordinal));
    }

    [Fact]
    public void A_vault_that_is_open_is_taken_alone_by_nobody_else()
    {
        using var other = Open();
        using (Open())
            other.TryAcquireExclusively().ShouldBeFalse();
        other.TryAcquireExclusively().ShouldBeTrue();
    }

    [Fact]
    public void The_usual_vault_needs_no_option()
    {
        Vault.Option(Vault.ChoosePath(null)).ShouldBeEmpty();
        Vault.Option(_folder["a vault"]).ShouldBe($" --vault '{_folder["a vault"]}'");
        File.WriteAllText(_folder["file"], "");
        Should.Throw<MoorfieldException>(() => Vault.ChoosePath(_folder["file"])).Message
            .ShouldEndWith("is a file, not a vault. Name a folder with --vault.");
    }

    [Fact]
    public void What_became_of_a_run_is_told_by_journals_and_later_runs()
    {
        using var vault = Open();
        Finish(vault, vault.Begin(Point("stands", families: "a")));
        Finish(vault, vault.Begin(Point("in part", families: "a")), failed: true);
        vault.Append(vault.Begin(Point("interrupted", families: "a")).Number, new JournalLine(default, JournalLine.Started));
        Finish(vault, vault.Begin(Point("undone in part", families: ["a", "b"])));
        Finish(vault, vault.Begin(Point("undo", RunKind.Undo, 4, "a")));
        Finish(vault, vault.Begin(Point("undone", families: "a")));
        Finish(vault, vault.Begin(Point("undo", RunKind.Undo, 6, "a")));
        var history = PointHistory.Read(vault, message => throw new InvalidOperationException(message));
        history.Select(s => s.State).ShouldBe(
            [PointState.InEffect, PointState.InEffectInPart, PointState.Interrupted, PointState.UndoneInPart, PointState.InEffect, PointState.Undone,
            PointState.InEffect]);
        history[5].UndoneBy.ShouldBe([7]);
        PointHistory.Newest(history, history[0].Point.Target)!.Point.Number.ShouldBe(4);
        PointHistory.Newest(history, history[0].Point.Target with { MachineId = "another" }).ShouldBeNull();
        PointHistory.Newest(history, history[0].Point.Target with { Path = "/another" }).ShouldBeNull();
        PointHistory.Elsewhere(history, history[0].Point.Target with { Path = "/another" }).Select(p => p.Point.Number).ShouldBe([1, 2, 3, 4]);
        history[3].UndonePackages.Select(p => p.Family).ShouldBe(["a"]);
        Finish(vault, vault.Begin(Point("undo of the undo", RunKind.Undo, 7, "a")));
        PointHistory.Read(vault, _ => { })[5].State.ShouldBe(PointState.InEffect);
    }

    [Fact]
    public void A_damaged_document_does_not_hide_the_others()
    {
        using var vault = Open();
        vault.Begin(Point("a"));
        vault.Begin(Point("b"));
        File.WriteAllText(_folder["vault/points/000001.json"], "{ cut");
        var damaged = new List<string>();
        PointHistory.Read(vault, damaged.Add).ShouldHaveSingleItem().Point.Title.ShouldBe("b");
        damaged.ShouldHaveSingleItem().ShouldContain("damaged");
    }

    [Fact]
    public void A_deeply_nested_registry_key_fits_into_a_document()
    {
        using var vault = Open();
        var key = new Formats.Hives.RecordedKey("leaf", [new("v", Formats.Hives.HiveValueType.Binary, new byte[] { 1, 0, 255 })], []);
        for (int i = 0; i < 500; i++)
            key = new Formats.Hives.RecordedKey($"k{i}", [], [key]);
        var change = new KeyRemoved("a", WindowsPath.Of("SOFTWARE"), "k", key);
        int number = vault.Begin(Point("deep") with { Changes = [change] }).Number;
        vault.Read(number).Changes.ShouldHaveSingleItem().ShouldBe(change);
    }

    public void Dispose() => _folder.Dispose();

    [Fact]
    public void Every_run_since_a_day_is_in_the_order_of_the_runs_even_where_the_clock_was_set_back()
    {
        using var folder = new TemporaryFolder(inMemory: true);
        using var vault = Vault.Open(folder["vault"], new WriteInterceptor());
        var target = new TargetIdentity("/mnt/counter-07", "COUNTER-07", "id", "", "");
        var other = new TargetIdentity("/mnt/counter-08", "COUNTER-08", "other", "", "");
        void Add(int day, TargetIdentity on, string step = JournalLine.Done)
        {
            int number = vault.Begin(new RestorePoint(
                0, RunKind.Block, null, new DateTimeOffset(2026, 11, day, 12, 0, 0, TimeSpan.Zero), $"day {day}", null, on, [], [], [])).Number;
            vault.Append(number, new JournalLine(DateTimeOffset.UnixEpoch, step));
            vault.Append(number, new JournalLine(DateTimeOffset.UnixEpoch, JournalLine.Finished));
        }
        Add(10, target);
        Add(25, other);
        Add(20, target); // the first since then
        Add(3, target); // the clock was set back
        Add(21, target);
        int[] Since(int day) => [.. PointHistory.Since(
            PointHistory.Read(vault, Assert.Fail), target, new DateTimeOffset(2026, 11, day, 0, 0, 0, TimeSpan.Zero)).Select(p => p.Point.Number)];
        Since(15).ShouldBe([5, 4, 3]);
        Since(21).ShouldBe([5]);
        Since(22).ShouldBeEmpty();
        PointHistory.Since(PointHistory.Read(vault, Assert.Fail), target, null).Select(p => p.Point.Number).ShouldBe([5, 4, 3, 1]);
    }
}
