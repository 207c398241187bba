using System.Collections.Immutable;
using Moorfield.Core.Layout;
using Moorfield.Core.Model;
using Moorfield.Core.Planning;
using Moorfield.Core.Vaults;

namespace Moorfield.Core.Tests;

/// <summary>What an undo does, from facts alone: no volume, no vault.</summary>
public sealed class UndoPlannerTests : IUndoFacts
{
    private const string Clock = "Northlight.Clock_8pewgm0k42rsa", Maps = "Northlight.Maps_8pewgm0k42rsa";
    private static readonly RecordedTree Tree = new(default, []);
    private static readonly WindowsPath ClockFolder = PackageRoots.Usual.Packages / "Northlight.Clock_1.0.0.0_x64__8pewgm0k42rsa";
    private static readonly KeyRemoved Key = new(Clock, Places.Software, @"A\Clock"), OtherKey = new(Maps, Places.Software, @"A\Maps");
    private static readonly TreeRemoved Folder = new(Clock, ClockFolder, Tree);
    private static readonly ReplacedFile Hive = new(Places.Software, "before", "after", default, default);

    private readonly HashSet<WindowsPath> _there = [];
    private readonly Dictionary<Change, ChangeState> _states = [];
    private FileState _file = FileState.Foreign;
    private bool _undoFailed;
    private bool _hasContents = true;
    private bool _hasBefore = true;

    bool IUndoFacts.UndoFailed => _undoFailed;

    bool IUndoFacts.Exists(WindowsPath path) => _there.Contains(path);

    IEnumerable<(Change Change, ChangeState State)> IUndoFacts.StatesOf(ImmutableArray<Change> changes) =>
        changes.Select(c => (c, _states.GetValueOrDefault(c, ChangeState.Pending)));

    FileState IUndoFacts.StateOf(ReplacedFile file, bool interrupted) => _file;

    ImmutableArray<Change>? IUndoFacts.OverwriteWith(HiveChange change) =>
        change.Hive == Places.Software ? [new KeyRemoved(change.Family, change.Hive, change.Key), change] : null;

    bool IUndoFacts.HasContents(RecordedTree tree) => _hasContents;

    bool IUndoFacts.LeavesOutIncomplete => true;

    bool IUndoFacts.HasBefore(ReplacedFile file) => _hasBefore && file.Before != "lost";

    private static RestorePoint Point(RunKind kind, params ImmutableArray<Change> changes) => new(
        1, kind, null, default, "remove", null, new TargetIdentity("/v", "COUNTER-07", "m", "", ""),
        [new ConcernedPackage(Clock, "Clock"), new ConcernedPackage(Maps, "Maps")], [Hive], changes);

    private UndoSteps Plan(UndoRequest request)
    {
        var (_, inverses) = UndoPlanner.Inverses(request, []);
        return UndoPlanner.Plan(request, this, null, inverses);
    }

    [Fact]
    public void The_last_change_is_undone_first_and_only_what_was_asked_for()
    {
        var point = Point(RunKind.Remove, Key, OtherKey, Folder);
        var (packages, inverses) = UndoPlanner.Inverses(new UndoRequest(point), []);
        packages.Select(p => p.DisplayName).ShouldBe(["Clock", "Maps"]);
        inverses.ShouldBe([Folder.Invert(), OtherKey.Invert(), Key.Invert()]);
        (packages, inverses) = UndoPlanner.Inverses(new UndoRequest(point, new HashSet<string> { Maps }), []);
        packages.ShouldHaveSingleItem().DisplayName.ShouldBe("Maps");
        inverses.ShouldBe([OtherKey.Invert()]);
        UndoPlanner.Inverses(new UndoRequest(point, Editions: new HashSet<int?> { 2 }), []).Inverses.ShouldBeEmpty();
    }

    [Fact]
    public void An_undo_that_was_cut_off_is_not_undone()
    {
        Should.Throw<MoorfieldException>(() => UndoPlanner.Inverses(new UndoRequest(Point(RunKind.Undo, Key), Interrupted: true), []))
            .Message.ShouldContain("which is finished, not undone");
        UndoPlanner.Inverses(new UndoRequest(Point(RunKind.Undo, Key)), []).Inverses.ShouldHaveSingleItem();
    }

    [Theory]
    [InlineData(nameof(FileState.After), false, 1, 2, 0)]
    [InlineData(nameof(FileState.Before), false, 0, 0, 2)]
    [InlineData(nameof(FileState.Before), true, 1, 2, 0)]
    [InlineData(nameof(FileState.HalfWritten), true, 1, 2, 0)]
    [InlineData(nameof(FileState.Foreign), false, 0, 2, 0)]
    public void A_hive_that_is_as_the_run_left_it_goes_back_whole(string state, bool interrupted, int whole, int changes, int back)
    {
        _file = Enum.Parse<FileState>(state);
        var steps = Plan(new UndoRequest(Point(RunKind.Remove, Key, OtherKey), Interrupted: interrupted));
        (steps.Whole.Length, steps.Changes.Length, steps.AlreadyRestored.Length).ShouldBe((whole, changes, back));
    }

    [Fact]
    public void A_hive_goes_back_whole_only_with_all_that_was_changed_in_it_and_only_if_its_content_is_kept()
    {
        _file = FileState.After;
        var point = Point(RunKind.Remove, Key, OtherKey);
        Plan(new UndoRequest(point)).Whole.ShouldBe([Hive]);
        Plan(new UndoRequest(point, new HashSet<string> { Maps })).Whole.ShouldBeEmpty();
        var log = new ReplacedFile(Places.LogsOf(Places.Software).First(), "lost", "after", default, default);
        Plan(new UndoRequest(point with { Files = [Hive, log] })).Whole.ShouldBeEmpty("the log's content is lost");
        Plan(new UndoRequest(point with { Files = [Hive, log with { Before = "before" }] })).Whole.Length.ShouldBe(2);
        _hasBefore = false;
        var steps = Plan(new UndoRequest(point));
        steps.Whole.ShouldBeEmpty();
        steps.Changes.Length.ShouldBe(2);
    }

    [Fact]
    public void What_something_else_changed_is_a_conflict_unless_it_is_overwritten()
    {
        var point = Point(RunKind.Remove, Key, Folder);
        _states[Key.Invert()] = ChangeState.Conflict;
        _states[Folder.Invert()] = ChangeState.Conflict;
        var steps = Plan(new UndoRequest(point));
        steps.Changes.ShouldBeEmpty();
        steps.Conflicts.Length.ShouldBe(2);
        steps = Plan(new UndoRequest(point, Overwrites: true));
        steps.Conflicts.ShouldBeEmpty();
        steps.Changes.ShouldBe([new TreeRemoved(Clock, ClockFolder), Folder.Invert(), new KeyRemoved(Clock, Places.Software, Key.Key), Key.Invert()]);
    }

    [Fact]
    public void Rows_whose_numbers_others_have_cannot_be_overwritten()
    {
        var rows = new RowsRemoved(Clock, PackageRoots.Usual.Database, null, null, []);
        _states[rows.Invert()] = ChangeState.Conflict;
        Plan(new UndoRequest(Point(RunKind.Remove, rows), Overwrites: true)).Conflicts.ShouldHaveSingleItem();
    }

    [Fact]
    public void A_package_whose_files_are_lost_is_not_registered_again()
    {
        var point = Point(RunKind.Remove, Key, OtherKey, Folder);
        _hasContents = false;
        var steps = Plan(new UndoRequest(point));
        steps.Changes.ShouldBe([OtherKey.Invert()]);
        steps.Lost.ShouldBe([Folder.Invert(), Key.Invert()]);
        // Where the folder is there, only it cannot be made whole.
        _there.Add(ClockFolder);
        steps = Plan(new UndoRequest(point));
        steps.Changes.ShouldBe([OtherKey.Invert(), Key.Invert()], ignoreOrder: true);
        steps.Lost.ShouldBe([Folder.Invert()]);
    }

    [Fact]
    public void What_is_back_is_done_again_only_where_a_run_was_cut_off_or_failed()
    {
        var point = Point(RunKind.Remove, Key, Folder);
        _states[Key.Invert()] = ChangeState.Done;
        _states[Folder.Invert()] = ChangeState.Done;
        Plan(new UndoRequest(point)).AlreadyRestored.Length.ShouldBe(2);
        foreach (bool interrupted in new[] { true, false })
        {
            _undoFailed = !interrupted;
            var steps = Plan(new UndoRequest(point, Interrupted: interrupted));
            steps.Changes.ShouldBe([Folder.Invert()]);
            steps.AlreadyRestored.ShouldBe([Key.Invert()]);
        }
    }

    [Fact]
    public void A_half_added_folder_of_a_run_that_was_cut_off_goes_whatever_it_holds()
    {
        var added = new TreeAdded(Clock, ClockFolder, Tree);
        var point = Point(RunKind.BringBack, added);
        _states[added.Invert()] = ChangeState.Conflict;
        Plan(new UndoRequest(point)).Conflicts.ShouldHaveSingleItem();
        Plan(new UndoRequest(point, Interrupted: true)).Changes.ShouldBe([new TreeRemoved(Clock, ClockFolder)]);
        Plan(new UndoRequest(point, Overwrites: true)).Changes.ShouldBe([new TreeRemoved(Clock, ClockFolder)]);
        _states[added.Invert()] = ChangeState.Pending;
        Plan(new UndoRequest(point, Interrupted: true)).Changes.ShouldBe([new TreeRemoved(Clock, ClockFolder, Tree)]);
    }
}
