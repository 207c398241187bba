using Moorfield.Core.Model;
using Moorfield.Core.Operations;
using Moorfield.Core.Planning;
using Moorfield.Core.Storage;
using Moorfield.Core.Targets;
using Moorfield.Core.Vaults;
using Moorfield.Formats.Hives;
using Moorfield.StandIn;
using Moorfield.Tests;

namespace Moorfield.Core.Tests;

/// <summary>Hives that were not flushed, with their transaction logs, on every kind of target.</summary>
public sealed class DirtyHiveTests : IDisposable
{
    private const string Logged = "Larkfield.Logged_8pewgm0k42rsa";
    private const string Config = "Windows/System32/config";
    private readonly TemporaryFolder _folder = new(inMemory: true);

    /// <summary>A system whose last block stands in the log only.</summary>
    /// <param name="spoil">What is done to the log.</param>
    private string Make(string kind, bool older = false, Func<byte[], byte[]>? spoil = null)
    {
        string root = Demo.CopyFewTo(_folder, "system");
        string path = Path.Combine(root, Config, "SOFTWARE");
        byte[] before = File.ReadAllBytes(path);
        byte[] after;
        using (var file = File.OpenHandle(path))
        {
            using var hive = Hive.OpenWrite(file);
            hive.Create($@"Microsoft\Windows\CurrentVersion\Appx\AppxAllUserStore\Deprovisioned\{Logged}");
            after = hive.ToArray();
        }
        uint number = BitConverter.ToUInt32(before, 8);
        byte[] log = older ? LogWriter.Older(before, after, number + 1) : [.. LogWriter.Head(before, number), .. LogWriter.Entry(before, after,
            number)];
        File.WriteAllBytes(path, LogWriter.Dirty(before));
        File.WriteAllBytes(path + ".LOG1", spoil is null ? log : spoil(log));
        File.WriteAllBytes(path + ".LOG2", []);
        if (kind == "volume")
            return root;
        if (kind == "disk")
            DiskBuilder.BuildVolume(root, _folder["system.ntfs"]);
        else
            Tool.Read("wimlib-imagex", "capture", root, _folder["system.wim"], "Counter");
        return _folder[kind == "disk" ? "system.ntfs" : "system.wim"];
    }

    private static string State(string path) => File.Exists(path)
        ? Convert.ToHexString(System.Security.Cryptography.SHA256.HashData(File.ReadAllBytes(path)))
        : VolumeState.Files(path);

    private Outcome Block(string path, bool replay, string? vault = "vault")
    {
        using var target = Target.Open(path, new WriteInterceptor(), new OpenOptions { ReplaysLogs = replay });
        var systems = target.Read(target.SelectEditions([]));
        var blocking = BlockOperation.Block(target, systems, BlockPlanner.Families(systems, ["Larkfield.Ferry_8pewgm0k42rsa"]), [], []);
        return blocking.CarryOut(blocking.Plan(), new RunSettings(vault is null ? null : _folder[vault], new WriteInterceptor()))!;
    }

    private SystemSnapshot Read(string path)
    {
        using var target = Target.Open(path, new WriteInterceptor());
        return target.Read(target.SelectEditions([]))[0];
    }

    private Outcome Undo(string path, int point, bool overwrite = false)
    {
        using var target = Target.Open(path, new WriteInterceptor());
        using var vault = Vault.OpenExisting(_folder["vault"])!;
        var undoing = new UndoOperation(target, vault, vault.Read(point), overwrite: overwrite);
        return undoing.CarryOut(undoing.Plan(), new RunSettings(_folder["vault"], new WriteInterceptor()))!;
    }

    [Theory]
    [InlineData("volume", false)]
    [InlineData("volume", true)]
    [InlineData("image", false)]
    [InlineData("disk", false)]
    [InlineData("disk", true)]
    public void What_the_logs_hold_is_read_and_written_only_when_asked_and_undone(string kind, bool older)
    {
        string path = Make(kind, older);
        string before = State(path);
        var system = Read(path);
        system.Blocks.ShouldContain(b => b.ToString() == Logged);
        system.Notes.Single(n => n.Code == "hiveReplayed").Text.ShouldContain("--replay-logs");
        system.Notes.ShouldNotContain(n => n.Code == "hiveDirty");

        var refused = Should.Throw<MoorfieldException>(() => Block(path, replay: false));
        (refused.Kind, refused.Message.Contains("--replay-logs")).ShouldBe((ErrorKind.Refused, true));
        State(path).ShouldBe(before);

        var outcome = Block(path, replay: true);
        (outcome.Failures.Length, outcome.Discrepancies.Length).ShouldBe((0, 0));
        var after = Read(path);
        after.Blocks.Select(b => b.Name).ShouldBe(["Larkfield.Ferry", "Larkfield.Logged", .. system.Blocks.Select(b => b.Name)
            .Where(n => n != "Larkfield.Logged")], ignoreOrder: true);
        after.Notes.ShouldNotContain(n => n.Code == "hiveReplayed" || n.Code == "hiveDirty");
        using (var target = Target.Open(path, new WriteInterceptor()))
        {
            target.Trees!.With(target.SelectEditions([])[0],
                tree => tree.Stat(WindowsPath.Of($@"{Config.Replace('/', '\\')}\SOFTWARE.LOG1"))!.Value.Size)
                .ShouldBe(0);
        }
        using (var vault = Vault.OpenExisting(_folder["vault"])!)
            vault.Read(1).Changes[0].ShouldBeOfType<LogsReplayed>().Writes.ShouldBeGreaterThan(0);

        Undo(path, 1).Discrepancies.ShouldBeEmpty();
        State(path).ShouldBe(before);
        Read(path).Notes.ShouldContain(n => n.Code == "hiveReplayed");
    }

    [Theory]
    [InlineData("volume")]
    [InlineData("disk")]
    public void Once_something_else_wrote_the_hive_its_replay_stays(string kind)
    {
        string path = Make(kind);
        Block(path, replay: true);
        using (var target = Target.Open(path, new WriteInterceptor()))
        {
            var systems = target.Read(target.SelectEditions([]));
            var other = BlockOperation.Block(target, systems, BlockPlanner.Families(systems, ["Larkfield.Other_8pewgm0k42rsa"]), [], []);
            other.CarryOut(other.Plan(), new RunSettings(null, new WriteInterceptor()));
        }
        var outcome = Undo(path, 1);
        outcome.Failures.Single().What.ShouldContain("transaction logs");
        Read(path).Blocks.Select(b => b.Name).ShouldContain("Larkfield.Logged");
        Read(path).Blocks.Select(b => b.Name).ShouldNotContain("Larkfield.Ferry");
    }

    [Fact]
    public void Logs_that_cannot_be_applied_leave_the_hive_readable_and_unwritten()
    {
        string path = Make("volume", spoil: log => log[..^600]);
        string before = State(path);
        var system = Read(path);
        system.Blocks.ShouldNotContain(b => b.ToString() == Logged);
        system.Notes.Single(n => n.Code == "hiveDirty").Text.ShouldContain("its logs hold no entry that is whole");
        foreach (bool replay in new[] { false, true })
        {
            var refused = Should.Throw<MoorfieldException>(() => Block(path, replay));
            (refused.Kind, refused.Message.Contains("its logs hold no entry that is whole")).ShouldBe((ErrorKind.Refused, true));
        }
        State(path).ShouldBe(before);
    }

    [Fact]
    public void Logs_of_a_hive_that_was_flushed_do_not_matter()
    {
        string path = Make("volume");
        string hive = Path.Combine(path, Config, "SOFTWARE");
        byte[] clean = File.ReadAllBytes(hive);
        BitConverter.TryWriteBytes(clean.AsSpan(4), BitConverter.ToUInt32(clean, 8));
        BitConverter.TryWriteBytes(clean.AsSpan(508), LogWriter.Checksum(clean));
        File.WriteAllBytes(hive, clean);
        byte[] log = File.ReadAllBytes(hive + ".LOG1");
        Read(path).Notes.ShouldNotContain(n => n.Code == "hiveReplayed");
        Block(path, replay: true).Discrepancies.ShouldBeEmpty();
        File.ReadAllBytes(hive + ".LOG1").ShouldBe(log);
    }

    public void Dispose() => _folder.Dispose();
}
