using System.Collections.Immutable;
using Moorfield.Core.Model;
using Moorfield.Core.Storage;
using Moorfield.Core.Vaults;
using Moorfield.Tests;

namespace Moorfield.Core.Tests;

/// <summary>Sizes, verification and deletion of restore points, on vaults of a few contents.</summary>
public sealed class VaultMaintenanceTests : IDisposable
{
    private static readonly TargetIdentity Target = new("/mnt", "COUNTER-07", "guid", "", "");
    private readonly TemporaryFolder _folder = new(inMemory: true);

    private Vault Open() => Vault.Open(_folder["vault"], new WriteInterceptor());

    private static string Keep(Vault vault, string text)
    {
        using var content = FileContent.InMemory(System.Text.Encoding.UTF8.GetBytes(text));
        return vault.Keep(content);
    }

    /// <summary>A finished run whose packages removed keys of the given families, with contents that it needs.</summary>
    private static int Run(Vault vault, string family, params string[] contents)
    {
        var point = vault.Begin(new RestorePoint(0, RunKind.Remove, null, DateTimeOffset.UnixEpoch, "a", null, Target,
            [new ConcernedPackage(family, $"{family} for counters")],
            [.. contents.Select((c, i) => new ReplacedFile(WindowsPath.Of($@"Windows\{family}{i}"), c, c, default, default))],
            [new TreeRemoved(family, WindowsPath.Of($@"Program Files\{family}"), new RecordedTree(default, [.. contents.Select((c, i) =>
                new RecordedVolumeEntry(i == 0 ? "" : $"{i}", i == 0 && contents.Length > 1 ? EntryKind.Folder : EntryKind.File, 0, 0, 0, 0, default,
                    default, i == 0 && contents.Length > 1 ? null : c, null, ImmutableSortedDictionary<string, byte[]>.Empty))]))]));
        vault.Append(point.Number, new JournalLine(DateTimeOffset.UnixEpoch, JournalLine.Finished));
        vault.Append(point.Number, new JournalLine(DateTimeOffset.UnixEpoch, "unmarked"));
        return point.Number;
    }

    private string FileOf(string hash) => Directory.GetFiles(_folder["vault/blobs"], $"{hash}.zst", SearchOption.AllDirectories).Single();

    [Fact]
    public void What_only_one_point_needs_is_its_own_and_the_rest_is_shared()
    {
        using var vault = Open();
        string shared = Keep(vault, "berth seven"), own = Keep(vault, "berth eight is closed");
        Run(vault, "Weather", shared);
        Run(vault, "Clock", shared, own);
        long Size(string hash) => new FileInfo(FileOf(hash)).Length;
        VaultMaintenance.Sizes(vault, Assert.Fail).ShouldBe([new PointSize(1, 0, Size(shared)), new PointSize(2, Size(own), Size(shared))]);
    }

    [Fact]
    public void Damage_and_loss_are_told_apart_with_the_packages_that_need_the_content()
    {
        using var vault = Open();
        string damaged = Keep(vault, "berth seven"), lost = Keep(vault, "berth eight"), sound = Keep(vault, "berth nine");
        Run(vault, "Weather", damaged);
        Run(vault, "Clock", lost);
        Run(vault, "Notes", sound);
        byte[] bytes = File.ReadAllBytes(FileOf(damaged));
        bytes[^1] ^= 1;
        File.WriteAllBytes(FileOf(damaged), bytes);
        File.Delete(FileOf(lost));
        PointFault[] Faults(int number) => [.. VaultMaintenance.Verify(vault, number, new Dictionary<string, bool>())];
        Faults(1).ShouldHaveSingleItem().Text.ShouldBe($"The content {damaged} is damaged.");
        Faults(1)[0].Packages.ShouldBe(["Weather for counters"]);
        Faults(2).ShouldHaveSingleItem().Text.ShouldBe($"The content {lost} is lost.");
        Faults(3).ShouldBeEmpty();
        // What is known already is not read again.
        VaultMaintenance.Verify(vault, 3, new Dictionary<string, bool> { [sound] = false }).ShouldHaveSingleItem();
    }

    private static PointSummary Summary(int number, PointState state = PointState.InEffect, int? undoes = null, params int[] undoneBy) => new(
        new PointHead(number, undoes is null ? RunKind.Remove : RunKind.Undo, undoes, DateTimeOffset.UnixEpoch, "a", null, Target, [], 1, false, []),
        state, [.. undoneBy], []);

    private static string Told(PointDeletion deletion) => string.Join("; ", new[]
    {
        string.Join(",", deletion.Gone.Select(g => g.Point.Number)), string.Join(",", deletion.Stay.Select(s => $"{s.Point.Point.Number} {s.Why}")),
        string.Join(",", deletion.MarkedUndone),
    });

    private static string Plan(IReadOnlyCollection<PointSummary> points, int[] wanted, bool byName = true, bool isMarked = false) =>
        Told(VaultMaintenance.Plan(points, wanted.ToHashSet(), byName, _ => isMarked));

    [Fact]
    public void An_undo_goes_with_its_run_or_leaves_a_word_there_or_stays()
    {
        PointSummary[] undone = [Summary(1, PointState.Undone, null, 2), Summary(2, undoes: 1)];
        Plan(undone, [1, 2]).ShouldBe("1,2; ; ");
        Plan(undone, [1]).ShouldBe("1; ; ");
        Plan(undone, [2]).ShouldBe("2; ; 1");
        // Undone in part only: the undo is all that tells.
        PointSummary[] inPart = [Summary(1, PointState.UndoneInPart, null, 2), Summary(2, undoes: 1)];
        Plan(inPart, [2]).ShouldBe("; 2 is what became of restore point 1: delete that one with it; ");
        Plan(inPart, [1, 2]).ShouldBe("1,2; ; ");
        // An undo that was undone itself has no word for it.
        PointSummary[] redone = [Summary(1, PointState.InEffect, null), Summary(2, PointState.Undone, 1, 3), Summary(3, undoes: 2)];
        Plan(redone, [3]).ShouldBe("; 3 is what became of restore point 2: delete that one with it; ");
        Plan(redone, [2, 3]).ShouldBe("2,3; ; ");
        // One that undid nothing, or whose run is gone, is like any other.
        Plan([Summary(1), Summary(2, undoes: 1)], [2]).ShouldBe("2; ; ");
        Plan([Summary(2, undoes: 1)], [2]).ShouldBe("2; ; ");
    }

    [Fact]
    public void A_point_that_stays_keeps_what_became_of_it()
    {
        PointSummary[] points = [Summary(1, PointState.UndoneInPart, null, 2) with { IsPinned = true }, Summary(2, undoes: 1)];
        Plan(points, [1, 2]).ShouldBe("; 1 is pinned,2 is what became of restore point 1: delete that one with it; ");
        Plan(points, [1, 2], byName: false).ShouldBe("; 2 is what became of restore point 1: delete that one with it; ");
        Plan([Summary(1, PointState.Interrupted)], [1]).ShouldBe("; 1 was interrupted: undo it or finish it first; ");
        Plan([Summary(1) with { MayBeMarked = true }], [1], isMarked: true).ShouldStartWith("; 1 may still be named by the marker of");
        Plan([Summary(1) with { MayBeMarked = true }], [1]).ShouldBe("1; ; ");
        Plan([Summary(1)], [1], isMarked: true).ShouldBe("1; ; ");
    }

    [Fact]
    public void Nothing_is_deleted_or_swept_while_another_has_the_vault_open()
    {
        using var vault = Open();
        Run(vault, "Weather", Keep(vault, "berth seven"));
        Keep(vault, "needed by nothing");
        var all = VaultMaintenance.Plan(PointHistory.Read(vault, _ => { }), new HashSet<int> { 1 }, byName: true, _ => false);
        using (Open())
        {
            Should.Throw<MoorfieldException>(() => VaultMaintenance.Delete(vault, all, TimeProvider.System, _ => false));
            Should.Throw<MoorfieldException>(() => VaultMaintenance.Repair(vault));
        }
        vault.Numbers().ShouldBe([1]);
        VaultMaintenance.Repair(vault).Contents.ShouldHaveSingleItem();
        VaultMaintenance.Delete(vault, all, TimeProvider.System, _ => false).Deleted.Gone.ShouldHaveSingleItem();
        vault.Numbers().ShouldBeEmpty();
        Directory.GetFiles(_folder["vault/blobs"], "*.zst", SearchOption.AllDirectories).ShouldBeEmpty();
    }

    [Fact]
    public void What_a_deleted_point_needed_goes_even_where_another_means_nothing()
    {
        using (var vault = Open())
        {
            Run(vault, "Weather", Keep(vault, "berth seven"));
            Run(vault, "Clock", Keep(vault, "berth eight"));
            Keep(vault, "whose it is, nobody knows");
        }
        string document = _folder["vault/points/000002.json"];
        File.WriteAllText(document, File.ReadAllText(document).Replace("COUNTER-07", "COUNTER\\u0000", StringComparison.Ordinal));
        using var again = Open();
        VaultMaintenance.Inspect(again).Faults.ShouldHaveSingleItem();
        VaultMaintenance.Inspect(again).Contents.ShouldBeEmpty();
        var first = VaultMaintenance.Plan(PointHistory.Read(again, _ => { }), new HashSet<int> { 1 }, byName: true, _ => false);
        VaultMaintenance.Delete(again, first, TimeProvider.System, _ => false).Bytes.ShouldBeGreaterThan(0);
        Directory.GetFiles(_folder["vault/blobs"], "*.zst", SearchOption.AllDirectories).Length.ShouldBe(2);
    }

    [Fact]
    public void A_point_that_cannot_be_read_is_told_and_the_others_have_sizes()
    {
        using var vault = Open();
        Run(vault, "Weather", Keep(vault, "berth seven"));
        Run(vault, "Clock", Keep(vault, "berth eight"));
        File.Delete(_folder["vault/points/000001.json"]);
        Directory.CreateDirectory(_folder["vault/points/000001.json"]);
        using var again = Open();
        var told = new List<string>();
        VaultMaintenance.Sizes(again, told.Add).ShouldHaveSingleItem().Number.ShouldBe(2);
        told.ShouldHaveSingleItem().ShouldContain("Restore point 1 in ");
    }

    [Fact]
    public void The_newest_removal_in_effect_of_what_a_person_names_is_found()
    {
        ImmutableArray<ConcernedPackage> packages = [new("Saltmarsh.Weather_x", "Weather"), new("Saltmarsh.Clock_x", "Clock")];
        PointSummary With(int number, RunKind kind, PointState state = PointState.InEffect, params ConcernedPackage[] undone)
        {
            var summary = Summary(number, state);
            return summary with { Point = summary.Point with { Kind = kind, Packages = packages }, UndonePackages = [.. undone] };
        }

        int? Found(string name, params PointSummary[] points) => PointHistory.Removal(points, Target, name)?.Run.Point.Number;
        Found("weather", With(1, RunKind.Remove), With(2, RunKind.Block)).ShouldBe(1);
        Found("Saltmarsh.Clock_x", With(1, RunKind.Remove), With(2, RunKind.Remove)).ShouldBe(2);
        Found("weather", With(1, RunKind.Remove), With(2, RunKind.Remove, PointState.UndoneInPart, packages[0])).ShouldBe(1);
        Found("clock", With(1, RunKind.Remove), With(2, RunKind.Remove, PointState.UndoneInPart, packages[0])).ShouldBe(2);
        Found("weather", With(1, RunKind.Remove, PointState.Undone)).ShouldBeNull();
        Found("maps", With(1, RunKind.Remove)).ShouldBeNull();
        PointHistory.Removal([With(1, RunKind.Remove)], Target with { MachineId = "other" }, "weather").ShouldBeNull();
    }

    [Fact]
    public void An_undo_that_failed_in_one_edition_has_put_the_others_back()
    {
        using var vault = Open();
        var point = new RestorePoint(0, RunKind.Remove, null, DateTimeOffset.UnixEpoch, "a", null, Target,
            [new("a", "A", 1), new("a", "A", 2), new("b", "B", 2)], [], []);
        vault.Append(vault.Begin(point).Number, new JournalLine(DateTimeOffset.UnixEpoch, JournalLine.Finished));
        int undo = vault.Begin(point with { Kind = RunKind.Undo, Undoes = 1 }).Number;
        vault.Append(undo, new JournalLine(DateTimeOffset.UnixEpoch, JournalLine.Failed, "x", "y", "A", 2));
        vault.Append(undo, new JournalLine(DateTimeOffset.UnixEpoch, JournalLine.Finished));
        var told = PointHistory.Read(vault, Assert.Fail)[0];
        told.State.ShouldBe(PointState.UndoneInPart);
        told.UndonePackages.ShouldBe([new("a", "A", 1), new("b", "B", 2)]);
    }

    [Fact]
    public void Blocks_of_points_that_do_not_say_what_they_meant_are_told_by_their_changes()
    {
        var point = new RestorePoint(1, RunKind.Block, null, DateTimeOffset.UnixEpoch, "a", null, Target, [], [],
        [
            new KeyAdded("a", Layout.Places.Software, $@"{Layout.Places.Blocks}\Saltmarsh.Weather_x") { Edition = 2 },
            new KeyAdded("a", Layout.Places.Software, @"Microsoft\Other\Saltmarsh.Clock_x"),
            new KeyAdded("a", Layout.Places.System, $@"{Layout.Places.Blocks}\Saltmarsh.Maps_x"),
        ]);
        point.Head.Intents.ShouldBe([Intent.Of(IntentKind.Block, 2, "Saltmarsh.Weather_x")]);
        var meant = Intent.Of(IntentKind.Block, 1, "Saltmarsh.Notes_x");
        (point with { Intents = [meant] }).Head.Intents.ShouldBe([meant]);
    }

    [Fact]
    public void The_first_line_of_a_journal_is_found_after_a_power_cut_too()
    {
        var steps = new List<WriteKind>();
        using var vault = Vault.Open(_folder["vault"], new WriteInterceptor((kind, _) => steps.Add(kind)));
        vault.Begin(new RestorePoint(0, RunKind.Remove, null, DateTimeOffset.UnixEpoch, "a", null, Target, [], [], []));
        foreach (int flushes in new[] { 2, 1 })
        {
            steps.Clear();
            vault.Append(1, new JournalLine(DateTimeOffset.UnixEpoch, JournalLine.Started));
            steps.Count(s => s == WriteKind.Flush).ShouldBe(flushes); // the file, and the folder that has just got it
        }
    }

    [Fact]
    public void A_sealed_content_is_whole_from_its_head_and_one_tag_on()
    {
        static bool IsWhole(int length)
        {
            byte[] content = new byte[length];
            return SealedFormat.IsWhole(new MemoryStream([.. content, .. System.Security.Cryptography.SHA256.HashData(content)]));
        }

        IsWhole(SealedFormat.HeaderBytes + SealedFormat.TagBytes).ShouldBeTrue();
        IsWhole(SealedFormat.HeaderBytes + SealedFormat.TagBytes - 1).ShouldBeFalse();
        IsWhole(0).ShouldBeFalse();
    }

    public void Dispose() => _folder.Dispose();
}
