using System.Collections.Immutable;
using Moorfield.Core.Assessment;
using Moorfield.Core.Model;
using Moorfield.Core.Operations;
using Moorfield.Core.Planning;
using Moorfield.Core.Selection;
using Moorfield.Core.Storage;
using Moorfield.Core.Targets;
using Moorfield.Core.Vaults;
using Moorfield.Tests;

namespace Moorfield.Core.Tests;

/// <summary>States that are recorded by hand, and gone back to, on every kind of target.</summary>
public abstract class RecordedStateConformance(ConformanceKind kind) : IDisposable
{
    private protected TemporaryFolder Folder { get; } = new(inMemory: true);

    private string? _made;

    private protected string Place => _made ??= kind.Make(Folder);

    private protected string VaultPath => Folder["vault"];

    private protected StateRecordingResult Create(bool withFiles = true)
    {
        using var target = kind.Open(Place, new WriteInterceptor());
        using var vault = Vault.Open(VaultPath, new WriteInterceptor());
        return new StateRecorder(target, target.SelectEditions([]), withFiles).Record(vault, "before", TimeProvider.System);
    }

    private protected (RestoreStateProposal Proposal, Outcome? Outcome) Restore(int point, WriteInterceptor? interceptor = null)
    {
        using var target = kind.Open(Place, interceptor ?? new WriteInterceptor());
        using var vault = Vault.OpenExisting(VaultPath, interceptor)!;
        var restoring = new RestoreStateOperation(target, vault, vault.Read(point));
        var proposal = restoring.Plan();
        return (proposal, proposal.HasEffect ? restoring.CarryOut(proposal, new RunSettings(VaultPath, interceptor ?? new WriteInterceptor()))
            : null);
    }

    private protected Outcome Remove(string packages, string? who = null, bool recorded = false)
    {
        using var target = kind.Open(Place, new WriteInterceptor());
        var removal = new RemovalOperation(target, target.Read(target.SelectEditions([])), [],
            fresh => fresh.Zip(PackageSelector.Find(packages.Split(','), fresh),
            (s, chosen) => new RemovalRequest(chosen, AudienceParser.Parse([who ?? kind.All], s))));
        return removal.CarryOut(removal.Plan(), new RunSettings(recorded ? VaultPath : null, new WriteInterceptor()) { AcceptsCosts = true })!;
    }

    private protected void Guard()
    {
        using var target = kind.Open(Place, new WriteInterceptor());
        var guards = KnownGuards.All.Where(g => g.Hive == GuardHive.Machine).ToImmutableArray();
        var guarding = new GuardOperation(target, target.Read(target.SelectEditions([]), guards), guards, [kind.All], false);
        guarding.CarryOut(guarding.Plan(), new RunSettings(null, new WriteInterceptor()));
    }

    private protected ImmutableArray<SystemSnapshot> Read()
    {
        using var target = kind.Open(Place, new WriteInterceptor());
        return target.Read(target.SelectEditions([]), KnownGuards.All);
    }

    private protected ImmutableArray<SystemSnapshot> ReadRecorded(int point)
    {
        using var vault = Vault.OpenExisting(VaultPath)!;
        using var target = new RecordedTarget(vault, vault.Read(point));
        return target.Read(target.SelectEditions([]), KnownGuards.All);
    }

    /// <summary>All that is known of the packages of a system, with the places where they stand.</summary>
    /// <param name="data">Whether people's data counts, which is recorded only by the run that removes it.</param>
    private protected static IEnumerable<string> Words(SystemSnapshot system, bool data = true) => system.Packages.Select(p =>
        $"{p.FullName} {p.DisplayName} {p.Bytes} {string.Join(',', p.Accounts)} {p.Newcomers} {p.Blocked} "
            + string.Join(';', p.AllTraces.Where(t => data || t.Kind != TraceKind.AppData).Select(t => t.ToString()).Order(StringComparer.Ordinal)))
        .Concat(system.Blocks.Select(b => $"block {b}"))
        .Concat(system.PolicyHives.SelectMany(h => h.Values.Select(v => $"{h.Path} {v.Key} {v.Value?.AsDWord()}")).Order(StringComparer.Ordinal));

    [Fact]
    public void A_recorded_state_reads_like_the_system_and_changes_nothing()
    {
        string before = kind.State(Place);
        Create().Lost.ShouldBeEmpty();
        kind.State(Place).ShouldBe(before);
        var (now, then) = (Read(), ReadRecorded(1));
        then.Select(s => (s.EditionNumber, s.Product, s.Build)).ShouldBe(now.Select(s => (s.EditionNumber, s.Product, s.Build)));
        for (int i = 0; i < now.Length; i++)
            Words(then[i]).ShouldBe(Words(now[i]));
        Restore(1).Proposal.HasEffect.ShouldBeFalse();
        using var vault = Vault.OpenExisting(VaultPath)!;
        PointHistory.Read(vault, _ => { }).Single().State.ShouldBe(PointState.Recorded);
        VaultMaintenance.Verify(vault, 1, new Dictionary<string, bool>()).ShouldBeEmpty();
    }

    [Theory]
    [InlineData(false)]
    [InlineData(true)]
    public void Whatever_changed_the_packages_since_is_taken_back(bool recorded)
    {
        var before = Read().Select(s => Words(s, recorded).ToList()).ToList();
        Create();
        Remove("Weather,Assistant", recorded: recorded).Discrepancies.ShouldBeEmpty();
        Remove("Calculator", "newcomers").Discrepancies.ShouldBeEmpty();
        Guard();
        int point = recorded ? 3 : 2;
        var (proposal, outcome) = Restore(1);
        proposal.Plan.Left.ShouldBeEmpty();
        outcome!.Discrepancies.ShouldBeEmpty();
        outcome.Failures.ShouldBeEmpty();
        outcome.Point.ShouldBe(point);
        Read().SelectMany(s => Words(s, recorded)).ShouldBe(before.SelectMany(b => b));
        Restore(1).Proposal.HasEffect.ShouldBeFalse();

        // It is a run like others, and can be undone itself.
        using (var target = kind.Open(Place, new WriteInterceptor()))
        {
            using var vault = Vault.OpenExisting(VaultPath)!;
            if (recorded)
                PointHistory.Read(vault, _ => { })[1].State.ShouldBe(PointState.Undone);
            var undoing = new UndoOperation(target, vault, vault.Read(point));
            var undone = undoing.CarryOut(undoing.Plan(), new RunSettings(VaultPath, new WriteInterceptor()))!;
            undone.Discrepancies.ShouldBeEmpty();
        }
        Read().ShouldAllBe(s => s.Packages.All(p => p.DisplayName != "Weather"));
    }

    [Fact]
    public void What_runs_of_Moorfield_removed_comes_back_without_files_of_its_own()
    {
        var before = Read().Select(s => Words(s).ToList()).ToList();
        Create(withFiles: false);
        Remove("Weather,Calculator", recorded: true);
        var (proposal, outcome) = Restore(1);
        proposal.Plan.Left.ShouldBeEmpty();
        outcome!.Discrepancies.ShouldBeEmpty();
        Read().SelectMany(s => Words(s)).ShouldBe(before.SelectMany(b => b));
    }

    [Fact]
    public void What_cannot_come_back_is_named_before_and_the_rest_comes_back()
    {
        Assert.SkipWhen(kind.Name == "image", "What an image drops stays in its file.");
        Create(withFiles: false);
        Remove("Weather");
        Remove("Calculator", "newcomers");
        var (proposal, outcome) = Restore(1);
        proposal.Plan.Left.Single().What.ShouldBe("Weather");
        outcome!.Failures.ShouldBe(proposal.Plan.Left);
        Read()[0].Packages.ShouldContain(p => p.DisplayName == "Calculator" && p.Newcomers);
        Read()[0].Packages.ShouldNotContain(p => p.DisplayName == "Weather");
        Read()[0].Blocks.ShouldNotContain(b => b.Name == "Northlight.Weather");
    }

    [Fact]
    public void Compared_it_shows_what_happened_since()
    {
        Create(withFiles: false);
        Remove("Weather", recorded: true);
        foreach (var (then, now) in ReadRecorded(1).Zip(Read()))
        {
            var comparison = Comparison.Of(ComparedSystem.Of(then), ComparedSystem.Of(now));
            comparison.Packages.Single().DisplayName.ShouldBe("Weather");
            comparison.Blocked.Single().ShouldContain("Weather");
        }
    }

    public void Dispose()
    {
        Folder.Dispose();
        GC.SuppressFinalize(this);
    }
}
