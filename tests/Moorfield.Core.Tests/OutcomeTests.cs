using Microsoft.Win32.SafeHandles;
using Moorfield.Core.Model;
using Moorfield.Core.Planning;
using Moorfield.Core.Storage;
using Moorfield.Core.Transactions;
using Moorfield.Core.Vaults;
using Moorfield.Tests;

namespace Moorfield.Core.Tests;

/// <summary>The verdict of each kind of run, on disks that do not do what they say and for plans that leave something out.</summary>
public sealed class OutcomeTests : IDisposable
{
    private readonly TemporaryFolder _folder = new(inMemory: true);
    private readonly Bench _bench;

    public OutcomeTests() => _bench = new Bench(_folder);

    /// <summary>Says that it did what it was told to some entries, and did not.</summary>
    private sealed class LyingDisk : FileSystemOperations
    {
        internal bool Lies { get; set; }

        internal override void Write(SafeFileHandle file, ReadOnlySpan<byte> bytes, long offset)
        {
            if (!Lies)
                base.Write(file, bytes, offset);
        }

        internal override int Truncate(SafeFileHandle file, long length) => Lies ? 0 : base.Truncate(file, length);

        internal override int SetMode(SafeFileHandle folder, byte[] name, uint mode) => Lies ? 0 : base.SetMode(folder, name, mode);
    }

    private static WriteInterceptor Lying(Func<WriteKind, string, bool> about)
    {
        var disk = new LyingDisk();
        return new WriteInterceptor((kind, name) => disk.Lies = about(kind, name), disk);
    }

    [Fact]
    public void A_hive_that_was_not_written_is_found_out_and_the_run_stands_in_part()
    {
        var outcome = _bench.Carry("Clock", "everyone", Lying((_, name) => name.EndsWith("config/SOFTWARE", StringComparison.Ordinal)));
        outcome.Verified.ShouldBeFalse();
        outcome.Failures.ShouldBeEmpty();
        outcome.Discrepancies.ShouldContain(d => d.Text.Contains("registry key removed"));
        outcome.Discrepancies.ShouldContain(d => d.Text.Contains("provisioned"));
        _bench.Points().ShouldHaveSingleItem().State.ShouldBe(PointState.InEffectInPart);
    }

    [Theory]
    [InlineData(WriteKind.Write, "Content")]
    [InlineData(WriteKind.Attributes, "")]
    public void What_comes_back_as_a_shell_is_found_out(WriteKind kind, string place)
    {
        _bench.Remove("Clock", "everyone");
        string staged = Path.GetDirectoryName(_bench.Staged("Northlight.Clock"))!;
        var outcome = _bench.Undo(1, verified: false,
            interceptor: Lying((k, name) => k == kind && name.StartsWith(staged, StringComparison.Ordinal) && name.Contains(place)));
        outcome.Verified.ShouldBeFalse();
        _bench.Points()[0].State.ShouldBe(PointState.UndoneInPart);
        _bench.Undo(1, overwrite: true).Failures.ShouldBeEmpty();
    }

    private Outcome Run(RunKind kind, IEnumerable<Change> changes, params Expectation[] expected) =>
        _bench.Run(new RunRequest(kind, "", null, _bench.Identity(), [], [.. changes]) { Expected = [.. expected] });

    [Fact]
    public void A_removal_that_leaves_something_out_is_found_out()
    {
        var before = _bench.Read();
        var plan = _bench.Plan("Clock", "everyone");
        var outcome = Run(RunKind.Remove, plan.Changes.Where(c => c is not TreeRemoved), new RemovalExpectation(before, plan));
        outcome.Discrepancies.ShouldContain(d => d.Text.Contains("is still there"));
        Run(RunKind.Remove, plan.Changes, new RemovalExpectation(before, plan)).Verified.ShouldBeTrue();
    }

    [Fact]
    public void A_block_that_is_missing_is_found_out()
    {
        var before = _bench.Read();
        var family = before.Packages.First(p => p.DisplayName == "Maps").Family;
        var plan = BlockPlanner.Block(before, [family]);
        Run(RunKind.Block, _bench.Plan("Clock", "everyone").Changes,
            new BlocksExpectation(before, plan.Families, Blocked: true)).Discrepancies.Length.ShouldBe(2);
        before = _bench.Read();
        Run(RunKind.Block, plan.Changes, new BlocksExpectation(before, plan.Families, Blocked: true)).Verified.ShouldBeTrue();
        Run(RunKind.Unblock, BlockPlanner.Unblock([_bench.Read()], ["Northlight.Maps"])[0].Changes,
            new BlocksExpectation(_bench.Read(), [family], Blocked: false)).Verified.ShouldBeTrue();
    }

    [Fact]
    public void A_leftover_that_is_still_there_is_found_out()
    {
        var before = _bench.Read();
        var plan = LeftoverPlanner.Plan(before);
        var outcome = Run(RunKind.Remove, plan.Changes.Skip(1), new LeftoverExpectation(before));
        outcome.Discrepancies.Length.ShouldBe(1);
        Run(RunKind.Remove, LeftoverPlanner.Plan(_bench.Read()).Changes, new LeftoverExpectation(before)).Verified.ShouldBeTrue();
    }

    /// <summary>Gives an account an older version of a package beside the one that it has.</summary>
    private string WithOlderVersion()
    {
        string older = Demo.FullName("Kestrelworks.Battery").Replace("_3.3.0.0_", "_3.1.0.0_", StringComparison.Ordinal);
        HiveEdit.Change(_bench.Software, hive => hive.Create($@"{HiveEdit.Store}\{Demo.Sid("ivy")}\{older}"));
        return older;
    }

    private string Data => Path.Combine(_bench.Root, "Users/ivy/AppData/Local/Packages", Demo.Family("Kestrelworks.Battery"));

    [Fact]
    public void Data_of_an_account_stays_while_another_version_of_the_family_does()
    {
        string older = WithOlderVersion();
        string before = Tool.Read("find", Data);
        _bench.Remove(older, "everyone", more: w => w with { AllowReturn = true }).Verified.ShouldBeTrue();
        _bench.Read().Packages.ShouldNotContain(p => p.FullName.ToString() == older);
        Tool.Read("find", Data).ShouldBe(before);
        _bench.Remove("Battery Keeper", "everyone").Verified.ShouldBeTrue();
        Directory.Exists(Data).ShouldBeFalse();
    }

    [Fact]
    public void Data_that_is_lost_while_another_version_stays_is_found_out()
    {
        string older = WithOlderVersion();
        var before = _bench.Read();
        var plan = _bench.Plan(older, "everyone", w => w with { AllowReturn = true });
        var lost = new TreeRemoved(
            Demo.Family("Kestrelworks.Battery"), WindowsPath.Of($@"Users\ivy\AppData\Local\Packages\{Demo.Family("Kestrelworks.Battery")}"));
        Run(RunKind.Remove, [.. plan.Changes, lost],
            new RemovalExpectation(before, plan)).Discrepancies.ShouldContain(d => d.Text.Contains("has lost data"));
    }

    [Fact]
    public void A_framework_that_is_too_old_is_not_what_a_package_needs()
    {
        var before = _bench.Read();
        var weather = before.Packages.Single(p => p.DisplayName == "Weather");
        weather.Needs.ShouldNotBeEmpty();
        string name = weather.Needs[0].Name;
        string manifest = Path.Combine(_bench.Staged("Northlight.Weather"), "AppxManifest.xml");
        string copy = Path.Combine(_bench.Root, "ProgramData/Microsoft/Windows/AppRepository", Demo.FullName("Northlight.Weather") + ".xml");
        string text = File.ReadAllText(manifest);
        int at = text.IndexOf("MinVersion=\"", text.IndexOf($"Name=\"{name}\"", StringComparison.Ordinal), StringComparison.Ordinal)
            + "MinVersion=\"".Length;
        text = string.Concat(text.AsSpan(0, at), "99.0.0.0", text.AsSpan(text.IndexOf('"', at)));
        File.WriteAllText(manifest, text);
        File.WriteAllText(copy, text);
        var after = _bench.Read();
        after.Packages.Single(p => p.DisplayName == "Weather").Needs.ShouldNotContain(n => n.Name == name);
        after.Notes.ShouldContain(n => n.Code == "dependencyMissing" && n.Text.Contains("99.0.0.0"));
    }

    public void Dispose() => _folder.Dispose();
}
