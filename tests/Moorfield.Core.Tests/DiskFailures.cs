using Moorfield.Core.Model;
using Moorfield.Core.Storage;
using Moorfield.Core.Vaults;
using Moorfield.Tests;

namespace Moorfield.Core.Tests;

/// <summary>Cuts, steps that fail, and disks that fail: afterwards each block is the old one or the new one.</summary>
public abstract class DiskFailures : IDisposable
{
    private readonly TemporaryFolder _folder = new(inMemory: true);
    private readonly ConformanceKind _kind;
    private readonly Bench _bench;
    private readonly byte[] _original;

    protected DiskFailures(ConformanceKind kind)
    {
        _kind = kind;
        _bench = Over(kind.Make(_folder), _folder["vault"]);
        _original = File.ReadAllBytes(_bench.Root);
    }

    private Bench Over(string root, string vault) => new(root, vault, _kind.Options);

    private static bool HasWeather(Bench bench) => bench.Read().Packages.Any(p => p.DisplayName == "Weather");

    private void Start(string name)
    {
        Tool.Run("sh", "-c", $"rm -rf '{_folder[name]}' '{_folder[name + "-vault"]}' {_folder.Path}/.{name}*");
        File.WriteAllBytes(_folder[name], _original);
    }

    // As for the interruption tests: MOORFIELD_SEED repeats a sample.
    private static readonly int Seed = int.TryParse(Environment.GetEnvironmentVariable("MOORFIELD_SEED"), out int seed) ? seed : Random.Shared.Next();

    private bool Crash(Action<WriteInterceptor> run, int step, int seed) => CrashDisk.Crash(_folder["stash"], run, step, seed);

    // Below an encrypted disk lies the same code: fewer steps will do.
    private List<int> Sample(int count, int seed)
    {
        int steps = _kind.IsEncrypted ? 8 : 24;
        return
        [
            .. Enumerable.Range(0, steps).Select(i => 1 + (i * count / steps) + (int)((uint)seed * 7 % Math.Max(1, count / steps))),
            .. Enumerable.Range(count - 8, 9),
        ];
    }

    /// <summary>Names and contents as an independent reader sees them, without those of hives and databases, in which times stand.</summary>
    private string Seen(string path)
    {
        string[] withTimes = ["/SOFTWARE ", "/NTUSER.DAT ", "/UsrClass.dat ", "/StateRepository-Machine.srd "];
        return string.Join('\n', DiskReferee.Read(path, _kind.KeyFile).Split('\n')
            .Where(l => !withTimes.Any(n => l.Contains(n, StringComparison.Ordinal))).Select(l => l.Split(']')[0]));
    }

    [Theory]
    [InlineData(true)]
    [InlineData(false)]
    public void A_run_cut_off_anywhere_leaves_the_old_disk_or_the_new_one(bool withRestorePoint)
    {
        int count = 0;
        Start("cut.ntfs");
        string? vault = withRestorePoint ? _folder["cut.ntfs-vault"] : null;
        Over(_folder["cut.ntfs"], vault!).Remove("Weather", "everyone", new WriteInterceptor((_, _) => count++));
        string changed = Seen(_folder["cut.ntfs"]);
        changed.ShouldNotBe(Seen(_bench.Root));
        var seen = new HashSet<PointState?>();
        // One step more than there are: the power goes when the run has returned.
        foreach (int step in Sample(count, Seed).Append(count + 1))
        {
            string story = $"step {step} of {count}, MOORFIELD_SEED={Seed}";
            Start("cut.ntfs");
            var bench = Over(_folder["cut.ntfs"], vault!);
            bool cut = Crash(interceptor => bench.Remove("Weather", "everyone", interceptor), step, step);
            // Whoever opens it next puts it right.
            bool isOld = HasWeather(bench);
            (isOld && !cut).ShouldBeFalse(story);
            if (isOld)
                File.ReadAllBytes(bench.Root).AsSpan().SequenceEqual(_original).ShouldBeTrue(story);
            else
                Seen(bench.Root).ShouldBe(changed, story);
            if (!withRestorePoint)
            {
                File.Exists(_folder[".cut.ntfs.moorfield-run.json"]).ShouldBeFalse(story);
                bench.ClearParts();
                Directory.GetFiles(_folder.Path, ".cut*").ShouldBeEmpty(story);
                continue;
            }
            Directory.GetFiles(_folder.Path, ".cut*").Where(f => !f.EndsWith(".part", StringComparison.Ordinal)).ShouldBeEmpty(story);
            var state = bench.Points().SingleOrDefault()?.State;
            state.ShouldBeOneOf(isOld ? [null, PointState.NotTaken] : [PointState.InEffect]);
            seen.Add(state);
            if (isOld)
                continue;
            bench.Undo(1).Failures.ShouldBeEmpty();
            File.ReadAllBytes(bench.Root).AsSpan().SequenceEqual(_original).ShouldBeTrue(story);
        }
        seen.ShouldBe(withRestorePoint ? [null, PointState.NotTaken, PointState.InEffect] : [], ignoreOrder: true);
    }

    [Fact]
    public void An_undo_cut_off_anywhere_is_done_or_not()
    {
        _bench.Remove("Weather", "everyone");
        byte[] changed = File.ReadAllBytes(_bench.Root);
        foreach (int step in new[] { 3, 9, 14, 20, 60, 120, 200, 300, 400 })
        {
            Tool.Run("sh", "-c", $"rm -rf {_folder["copy-vault"]} {_folder.Path}/.counter*; cp -a {_folder["vault"]} {_folder["copy-vault"]}");
            File.WriteAllBytes(_bench.Root, changed);
            var bench = Over(_bench.Root, _folder["copy-vault"]);
            bool cut = Crash(interceptor => bench.Undo(1, interceptor: interceptor), step, step);
            bool isOld = HasWeather(bench);
            (isOld || cut).ShouldBeTrue($"step {step}");
            File.ReadAllBytes(bench.Root).AsSpan().SequenceEqual(isOld ? _original : changed).ShouldBeTrue($"step {step}");
        }
    }

    [Fact]
    public void A_step_that_fails_leaves_the_disk_as_it_was()
    {
        int count = 0;
        Start("fail.ntfs");
        Over(_folder["fail.ntfs"], _folder["fail.ntfs-vault"]).Remove("Weather", "everyone", new WriteInterceptor((_, _) => count++));
        foreach (int step in Sample(count - 4, 3))
        {
            Start("fail.ntfs");
            var bench = Over(_folder["fail.ntfs"], _folder["fail.ntfs-vault"]);
            int steps = 0;
            var error = Record.Exception(() => bench.Remove("Weather", "everyone", new WriteInterceptor((_, name) =>
            {
                if (++steps == step)
                    throw new MoorfieldException(ErrorKind.Failed, $"{name}: No space left on device.");
            })));
            if (!HasWeather(bench))
                continue; // only the marker could not be taken away any more
            error.ShouldBeOfType<MoorfieldException>().Message.ShouldContain("No space left on device");
            File.ReadAllBytes(bench.Root).AsSpan().SequenceEqual(_original).ShouldBeTrue($"step {step} of {count}");
        }
    }

    /// <summary>Becomes read-only in the middle, for some writes or for good.</summary>
    private sealed class TurnedDisk(int after, int times) : FileSystemOperations
    {
        private int _writes;

        internal bool IsDisk { get; set; }

        internal override void Write(Microsoft.Win32.SafeHandles.SafeFileHandle file, ReadOnlySpan<byte> bytes, long offset)
        {
            if (IsDisk && ++_writes > after && _writes - after <= times)
                throw new UnauthorizedAccessException("Access to the path is denied.");
            base.Write(file, bytes, offset);
        }
    }

    [Theory]
    [InlineData(0, 1)]
    [InlineData(20, 1)]
    [InlineData(20, int.MaxValue)]
    public void A_disk_that_turns_read_only_in_the_middle_gets_its_old_blocks_back(int after, int times)
    {
        var disk = new TurnedDisk(after, times);
        string said = Should.Throw<MoorfieldException>(() => _bench.Remove("Weather", "everyone", new WriteInterceptor(
            (_, name) => disk.IsDisk = name == _bench.Root, disk))).Message;
        said.ShouldContain("does not let itself be written");
        said.Contains("the old blocks could not be put back", StringComparison.Ordinal).ShouldBe(times > 1);
        // Where it stayed so, whoever opens it next puts them back.
        HasWeather(_bench).ShouldBeTrue();
        File.ReadAllBytes(_bench.Root).AsSpan().SequenceEqual(_original).ShouldBeTrue();
        _bench.Remove("Weather", "everyone").Verified.ShouldBeTrue();
    }

    /// <summary>Says that it wrote to the disk, and did not, for one write.</summary>
    private sealed class LyingDisk(int lie) : FileSystemOperations
    {
        private int _writes;

        internal bool IsDisk { get; set; }

        internal override void Write(Microsoft.Win32.SafeHandles.SafeFileHandle file, ReadOnlySpan<byte> bytes, long offset)
        {
            if (!IsDisk || ++_writes != lie)
                base.Write(file, bytes, offset);
        }
    }

    [Theory]
    [InlineData(1, true)]
    [InlineData(9, true)]
    [InlineData(40, true)]
    [InlineData(9, false)]
    public void A_disk_that_lies_is_found_out_and_gets_its_old_blocks_back(int lie, bool withRestorePoint)
    {
        var disk = new LyingDisk(lie);
        var bench = Over(_bench.Root, withRestorePoint ? _folder["vault"] : null!);
        var interceptor = new WriteInterceptor((_, name) => disk.IsDisk = name == _bench.Root, disk);
        Should.Throw<MoorfieldException>(() => bench.Remove("Weather", "everyone", interceptor))
            .Message.ShouldContain("does not hold what was written to it");
        HasWeather(bench).ShouldBeTrue();
        File.ReadAllBytes(_bench.Root).AsSpan().SequenceEqual(_original).ShouldBeTrue();
        Directory.GetFiles(_folder.Path, ".counter*").ShouldBeEmpty();
    }

    public void Dispose() => _folder.Dispose();
}
