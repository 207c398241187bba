using System.Collections.Immutable;
using Moorfield.Core.Model;
using Moorfield.Core.Storage;
using Moorfield.Core.Vaults;
using Moorfield.Tests;

namespace Moorfield.Core.Tests;

/// <summary>A vault that several processes use at once. Each open vault here has locks of its own, as a process has.</summary>
public sealed class SharedVaultTests : IDisposable
{
    private readonly TemporaryFolder _folder = new(inMemory: true);

    private Vault Open() => Vault.Open(_folder["vault"], new WriteInterceptor());

    private static RestorePoint Point(string title = "a run") => new(
        0, RunKind.Block, null, DateTimeOffset.UnixEpoch, title, null, new TargetIdentity("/mnt/counter-07", "COUNTER-07", "id", "", ""),
        [], [], []);

    [Fact]
    public void No_line_that_several_add_at_once_is_lost()
    {
        const int Each = 60;
        using (var vault = Open())
            vault.Begin(Point());
        Parallel.For(0, 4, worker =>
        {
            using var vault = Open();
            for (int i = 0; i < Each; i++)
                vault.Append(1, new JournalLine(DateTimeOffset.UnixEpoch, JournalLine.Noted, Message: $"{worker} {i}"));
        });
        using var read = Open();
        read.Journal(1).Select(l => l.Message).Distinct().Count().ShouldBe(4 * Each);
        File.ReadAllLines(_folder["vault/points/000001.journal"]).Length.ShouldBe(4 * Each);
    }

    [Fact]
    public async Task What_another_process_finishes_writing_at_this_moment_is_in_nobodys_way()
    {
        using var vault = Open();
        var writing = Task.Run(() =>
        {
            for (int i = 0; i < 3000; i++)
            {
                byte[] content = BitConverter.GetBytes(i);
                vault.Keep(take => take(content));
            }
        }, TestContext.Current.CancellationToken);
        while (!writing.IsCompleted)
            Open().Dispose();
        await writing;
        Directory.GetFiles(_folder["vault/blobs"]).ShouldBeEmpty();
    }

    [Fact]
    public void Contents_that_several_write_at_once_are_all_sound()
    {
        byte[][] contents = [.. Enumerable.Range(0, 4).Select(i =>
        {
            byte[] bytes = new byte[300_000];
            new Random(i).NextBytes(bytes);
            return bytes;
        })];
        var names = new System.Collections.Concurrent.ConcurrentBag<string>();
        // The process is the same, and so is its number: in containers that share a vault it often is.
        Parallel.For(0, 4, worker =>
        {
            using var vault = Open();
            for (int i = 0; i < 30; i++)
                names.Add(vault.Keep(take => take(contents[(worker + i) % 4])));
        });
        using var read = Open();
        names.Distinct().Count().ShouldBe(4);
        names.Distinct().ShouldAllBe(n => read.IsSound(n));
        Directory.GetFiles(_folder["vault/blobs"]).ShouldBeEmpty();
    }

    [Fact]
    public void A_content_that_another_is_writing_is_left_to_it_and_one_that_was_left_goes()
    {
        using var first = Open();
        string left = Path.Combine(_folder["vault/blobs"], "part-00112233445566778899aabbccddeeff");
        string others = Path.Combine(_folder["vault/blobs"], "part-time work.txt");
        File.WriteAllText(left, "half");
        File.WriteAllText(others, "a person's own");
        string name = first.Keep(take =>
        {
            take("the first half, "u8);
            using var second = Open(); // takes away what nobody writes any more
            take("and the other"u8);
        });
        first.IsSound(name).ShouldBeTrue();
        File.Exists(left).ShouldBeFalse();
        File.WriteAllText(left, "half");
        VaultMaintenance.Repair(first);
        File.Exists(left).ShouldBeFalse();
        File.Exists(others).ShouldBeTrue();
    }

    [Fact]
    public void A_point_that_is_pinned_while_a_person_is_asked_stays()
    {
        using (var vault = Open())
        {
            vault.Begin(Point());
            vault.Begin(Point());
        }
        PointDeletion shown;
        using (var vault = Open())
            shown = VaultMaintenance.Plan(PointHistory.Read(vault, _ => { }), new HashSet<int> { 1, 2 }, byName: true, _ => false);
        shown.Gone.Length.ShouldBe(2);
        using (var other = Open())
            other.Pin(1, true, TimeProvider.System);
        using (var vault = Open())
        {
            var (_, deleted, _) = VaultMaintenance.Delete(vault, shown, TimeProvider.System, _ => false);
            deleted.Stay.Single().Point.Point.Number.ShouldBe(1);
            vault.Numbers().ShouldBe([1]);
        }
    }

    [Fact]
    public void Nobody_else_may_read_points_and_contents_whatever_the_umask()
    {
        Tool.Read("sh", "-c", "umask 000; true");
        using var vault = Open();
        vault.Keep(take => take("something"u8));
        vault.Begin(Point());
        vault.Append(1, new JournalLine(DateTimeOffset.UnixEpoch, JournalLine.Started));
        Tool.Read("find", _folder["vault"], "-type", "f", "!", "-perm", "600").ShouldBeEmpty();
        Tool.Read("find", _folder["vault"], "-mindepth", "1", "-type", "d", "!", "-perm", "700").ShouldBeEmpty();
    }

    [Fact]
    public void A_point_that_could_not_be_read_back_is_not_written()
    {
        using var vault = Open();
        var entry = new RecordedVolumeEntry("", EntryKind.Folder, 0, 0, 0, 0, default, default, null, null,
            ImmutableSortedDictionary<string, byte[]>.Empty);
        var twice = new TreeRemoved("family", WindowsPath.Of("a"), new RecordedTree(default, [entry, entry]));
        var refused = Should.Throw<MoorfieldException>(() => vault.Begin(Point() with { Changes = [twice] }));
        refused.Kind.ShouldBe(ErrorKind.Refused);
        refused.Message.ShouldContain("could not be read back");
        vault.Numbers().ShouldBeEmpty();
        Directory.GetFiles(_folder["vault/points"]).Select(Path.GetFileName).ShouldBe(["lock"]);
    }

    public void Dispose() => _folder.Dispose();
}
