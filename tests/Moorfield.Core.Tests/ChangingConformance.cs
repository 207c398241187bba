using System.Collections.Immutable;
using Moorfield.Core.Assessment;
using Moorfield.Core.Model;
using Moorfield.Core.Operations;
using Moorfield.Core.Planning;
using Moorfield.Core.Selection;
using Moorfield.Core.Storage;
using Moorfield.Core.Targets;
using Moorfield.Core.Transactions;
using Moorfield.Core.Vaults;
using Moorfield.Formats.Hives;
using Moorfield.Tests;

namespace Moorfield.Core.Tests;

/// <summary>What every kind of target does for those who change it.</summary>
public abstract class ChangingConformance(ConformanceKind kind) : ReadingConformance(kind)
{
    private string VaultPath => Folder["vault"];

    private RemovalOperation Removal(Target target, string packages, string? who = null, Func<RemovalRequest, RemovalRequest>? more = null) => new(
        target, target.Read(target.SelectEditions([])), [],
        fresh => fresh.Zip(PackageSelector.Find(packages.Split(','), fresh), (s, chosen) =>
            (more ?? (w => w))(new RemovalRequest(chosen, AudienceParser.Parse([who ?? Kind.All], s)))));

    private Outcome Remove(string packages, string? who = null, Func<RemovalRequest, RemovalRequest>? more = null, RunSettings? settings = null,
    WriteInterceptor? interceptor = null)
    {
        using var target = Open(interceptor);
        target.AcquireForChange();
        var removal = Removal(target, packages, who, more);
        return removal.CarryOut(removal.Plan(),
            settings ?? new RunSettings(VaultPath, interceptor ?? new WriteInterceptor()) { AcceptsCosts = true })!;
    }

    private Outcome Undo(int point, string? only = null, bool overwrite = false)
    {
        using var target = Open();
        target.AcquireForChange(afterInterruption: true);
        using var vault = Vault.OpenExisting(VaultPath)!;
        bool interrupted = target.DescribeInterruption() is not null;
        var undoing = new UndoOperation(target, vault, vault.Read(point), only is null ? null : new HashSet<string> { only }, null, overwrite,
            interrupted);
        var proposal = undoing.Plan();
        return proposal.HasEffect ? undoing.CarryOut(proposal, new RunSettings(VaultPath, new WriteInterceptor()))! : Outcome.Nothing;
    }

    private Outcome Block(string family, bool lift = false, bool recorded = true)
    {
        using var target = Open();
        var systems = target.Read(target.SelectEditions([]));
        var blocking = lift ? BlockOperation.Unblock(target, systems, [family])
            : BlockOperation.Block(target, systems, BlockPlanner.Families(systems, [family]), [], []);
        return blocking.CarryOut(blocking.Plan(), new RunSettings(recorded ? VaultPath : null, new WriteInterceptor()))!;
    }

    private Outcome Guard(uint data, bool lift = false, bool recorded = true)
    {
        using var target = Open();
        ImmutableArray<Guard> guards = [new Guard(null, GuardHive.Machine, @"Policies\Saltmarsh\Counter", HiveValue.FromDWord("Quiet", data), null,
            null)];
        var guarding = new GuardOperation(target, target.Read(target.SelectEditions([]), guards), guards, [Kind.All], lift);
        return guarding.CarryOut(guarding.Plan(), new RunSettings(recorded ? VaultPath : null, new WriteInterceptor()))!;
    }

    [Fact]
    public void Desktop_programs_no_longer_install_themselves_for_newcomers_and_do_again_once_it_is_undone()
    {
        string before = Kind.State(Place);
        ShouldBeGood(Remove("Weather", who: "newcomers", more: Bench.WithPrograms));
        foreach (var system in Read())
        {
            DesktopProgramGroup.Of(system).ShouldNotContain(p => p.Installers.Any());
            system.StartBlocks.Select(b => b.Kind).ShouldBe([StartKind.Run, StartKind.ActiveSetup]);
        }
        ShouldBeGood(Undo(1, only: "Pennywhistle Post"));
        Read().ShouldAllBe(s => DesktopProgramGroup.Of(s).Single(p => p.Installers.Any()).Name == "Pennywhistle Post" && s.StartBlocks.Length == 1);
        ShouldBeGood(Undo(2));
        ShouldBeGood(Undo(1));
        Kind.State(Place).ShouldBe(before);
    }

    [Fact]
    public void A_desktop_program_of_an_account_goes_whole_and_comes_back()
    {
        var program = DesktopProgramGroup.Of(Bench.FewPackages).Single(p => p.Name == "Card Counter");
        if (Read()[0].Accounts.IsEmpty)
        {
            Read().ShouldAllBe(s => s.DesktopPrograms.All(p => p.Newcomers));
            return;
        }
        string before = Kind.State(Place);
        ShouldBeGood(Remove("Weather", more: w => w with { Programs = [program] }));
        Read()[0].DesktopPrograms.ShouldNotContain(p => p.Name == "Card Counter");
        Kind.State(Place).ShouldNotContain("CardCounter");
        ShouldBeGood(Undo(1, only: "Card Counter"));
        Read()[0].DesktopPrograms.Single(p => p.Name == "Card Counter").Starts.ShouldHaveSingleItem().IsOff.ShouldBeFalse();
        ShouldBeGood(Undo(2));
        ShouldBeGood(Undo(1));
        Kind.State(Place).ShouldBe(before);
    }

    [Fact]
    public void Blocks_keep_desktop_programs_from_newcomers_until_they_are_lifted()
    {
        using (var target = Open())
        {
            var systems = target.Read(target.SelectEditions([]));
            var blocking = BlockOperation.Block(target, systems, [], [], [], Coming);
            ShouldBeGood(blocking.CarryOut(blocking.Plan(), new RunSettings(VaultPath, new WriteInterceptor()))!);
            blocking.Plan().HasEffect.ShouldBeFalse();
        }
        Read().ShouldAllBe(s => Coming(s).All(p => p.IsBlocked && !p.Newcomers) && s.StartBlocks.Length == 2);
        ShouldBeGood(Block("pennywhistle post", lift: true));
        Read().ShouldAllBe(s => Coming(s).Single(p => p.Newcomers).Name == "Pennywhistle Post" && s.StartBlocks.Length == 1);
        ShouldBeGood(Block("TideFolderSetup", lift: true));
        Read().ShouldAllBe(s => Coming(s).All(p => p.Newcomers) && s.StartBlocks.IsEmpty);
    }

    private static IEnumerable<DesktopProgramGroup> Coming(SystemSnapshot system) => DesktopProgramGroup.Of(system).Where(p => p.Installers.Any());

    [Fact]
    public void What_needs_no_damaged_content_comes_back_without_the_others()
    {
        Remove("Weather,Calculator", settings: new RunSettings(VaultPath, new WriteInterceptor()) { AcceptsCosts = true, KeepFiles = true });
        Guard(1); // so that not simply everything becomes what it was
        string? hash = null;
        using (var vault = Vault.OpenExisting(VaultPath)!)
        {
            var point = vault.Read(1);
            string family = point.Packages.First(p => p.DisplayName == "Weather").Family;
            hash = point.Changes.OfType<TreeRemoved>().Where(t => t.Family == family).SelectMany(t => VaultMaintenance.Contents(t.Recorded!))
                .Except(point.Changes.OfType<TreeRemoved>().Where(t => t.Family != family).SelectMany(t => VaultMaintenance.Contents(t.Recorded!)))
                .FirstOrDefault(vault.HasBlob);
        }
        if (hash is null)
            return; // an image still has the contents itself
        string blob = Directory.GetFiles(Path.Combine(VaultPath, "blobs"), "*", SearchOption.AllDirectories).Single(IsIts);
        byte[] content = File.ReadAllBytes(blob);
        content[^1] ^= 0x55;
        content[content.Length / 2] ^= 0x55;
        File.WriteAllBytes(blob, content);
        Undo(1, overwrite: true).Failures.ShouldNotBeEmpty();
        Packages("Calculator").ShouldNotBeEmpty();
        using var target = Open();
        target.DescribeInterruption().ShouldBeNull();
        Points().Length.ShouldBe(3);

        // Whatever a content is called in the vault, it is gone when its file is.
        bool IsIts(string file)
        {
            File.Move(file, file + ".away");
            using var vault = Vault.OpenExisting(VaultPath)!;
            vault.Read(1);
            bool isGone = !vault.HasBlob(hash);
            File.Move(file + ".away", file);
            return isGone;
        }
    }

    private ImmutableArray<PointSummary> Points()
    {
        using var vault = Vault.OpenExisting(VaultPath);
        return vault is null ? [] : PointHistory.Read(vault, message => throw new InvalidOperationException(message));
    }

    private IEnumerable<InstalledPackage> Packages(string name) => Read().SelectMany(s => s.Packages).Where(p => p.DisplayName == name);

    private static void ShouldBeGood(Outcome outcome)
    {
        outcome.Failures.ShouldBeEmpty();
        outcome.Discrepancies.ShouldBeEmpty();
        outcome.Warnings.ShouldBeEmpty();
    }

    [Fact]
    public void Removed_for_all_it_is_gone_and_blocked_and_all_else_stays()
    {
        var others = Read().Select(s => s.Packages.Where(p => p.DisplayName != "Weather").Select(p => $"{p.FullName} {p.Bytes} {p.IsHeld}")
        .ToList()).ToList();
        ShouldBeGood(Remove("Weather"));
        Packages("Weather").ShouldBeEmpty();
        var systems = Read();
        systems.ShouldAllBe(s => s.Blocks.Any(b => b.ToString() == Demo.Family("Northlight.Weather")) && s.Leftovers.IsEmpty);
        for (int i = 0; i < systems.Length; i++)
            systems[i].Packages.Select(p => $"{p.FullName} {p.Bytes} {p.IsHeld}").ShouldBe(others[i]);
    }

    [Fact]
    public void Removed_for_a_part_the_others_keep_it()
    {
        Assert.SkipWhen(Kind.Part is null, "Only newcomers have it in an image.");
        ShouldBeGood(Remove("Weather", Kind.Part));
        var package = Packages("Weather").Single();
        (package.Accounts.Length, package.Newcomers, package.HasFiles, package.Blocked).ShouldBe((2, true, true, false));
    }

    [Fact]
    public void Removed_for_newcomers_those_who_have_it_keep_it()
    {
        ShouldBeGood(Remove("Weather", "newcomers"));
        Read().ShouldAllBe(s => s.Accounts.IsEmpty
            || s.Packages.Any(p => p.DisplayName == "Weather" && !p.Newcomers && p.Blocked && p.Accounts.Length == 3));
        Packages("Weather").ShouldAllBe(p => !p.Newcomers);
    }

    [Fact]
    public void Allowed_to_return_it_is_not_blocked()
    {
        var before = Read()[0].Blocks;
        ShouldBeGood(Remove("Weather", more: w => w with { AllowReturn = true }));
        Read()[0].Blocks.ShouldBe(before);
    }

    [Fact]
    public void What_the_system_needs_is_refused()
    {
        string before = Kind.State(Place);
        using var target = Open();
        var proposal = Removal(target, "Shell Host").Plan();
        (proposal.HasEffect, proposal.IsRefusedInPart).ShouldBe((false, true));
        Kind.State(Place).ShouldBe(before);
    }

    [Fact]
    public void A_run_is_recorded_with_what_it_means()
    {
        Remove("Weather", settings: new RunSettings(VaultPath, new WriteInterceptor()) { Note = "spring", AcceptsCosts = true });
        var point = Points().ShouldHaveSingleItem();
        (point.State, point.Point.Kind, point.Point.Note).ShouldBe((PointState.InEffect, RunKind.Remove, "spring"));
        var removed = point.Point.Intents.Where(i => i.Kind == IntentKind.Remove).ToList();
        removed.Select(i => i.Edition).ShouldBe(Read().Select(s => s.EditionNumber));
        removed.ShouldAllBe(i => i.Subject == Demo.Family("Northlight.Weather") && i.Newcomers);
        point.Point.Intents.Count(i => i.Kind == IntentKind.Block).ShouldBe(removed.Count);
    }

    [Fact]
    public void A_run_without_a_restore_point_records_nothing()
    {
        ShouldBeGood(Remove("Weather", settings: new RunSettings(null, new WriteInterceptor()) { AcceptsCosts = true }));
        Packages("Weather").ShouldBeEmpty();
        Directory.Exists(VaultPath).ShouldBeFalse();
    }

    [Fact]
    public void Blocks_are_set_and_lifted()
    {
        ShouldBeGood(Block("Larkfield.Ferry_8pewgm0k42rsa"));
        Read().ShouldAllBe(s => s.Blocks.Any(b => b.Name == "Larkfield.Ferry"));
        ShouldBeGood(Block("Larkfield.Ferry", lift: true));
        Read().ShouldAllBe(s => s.Blocks.All(b => b.Name != "Larkfield.Ferry"));
    }

    [Fact]
    public void What_is_as_wished_already_is_no_run()
    {
        Block("Larkfield.Ferry_8pewgm0k42rsa");
        using var target = Open();
        var systems = target.Read(target.SelectEditions([]));
        BlockOperation.Block(target, systems, BlockPlanner.Families(systems, ["Larkfield.Ferry_8pewgm0k42rsa"]), [], []).Plan()
            .HasEffect.ShouldBeFalse();
        Removal(target, "Weather", "newcomers", w => w with { Packages = [] }).Plan().HasEffect.ShouldBeFalse();
    }

    [Fact]
    public void Guards_are_set_and_lifted()
    {
        string before = Kind.State(Place);
        ShouldBeGood(Guard(1));
        Points()[0].Point.Intents.ShouldAllBe(i => i.Kind == IntentKind.Guard && i.Subject == "Quiet");
        ShouldBeGood(Guard(1, lift: true));
        ShouldBeGood(Undo(2));
        ShouldBeGood(Undo(1));
        Kind.State(Place).ShouldBe(before);
    }

    [Fact]
    public void Leftovers_are_cleared()
    {
        using var target = Open();
        var clearing = new LeftoverRemoval(target, target.Read(target.SelectEditions([])));
        var proposal = clearing.Plan();
        if (proposal.HasEffect)
            ShouldBeGood(clearing.CarryOut(proposal, new RunSettings(VaultPath, new WriteInterceptor()))!);
        Read().ShouldAllBe(s => s.Leftovers.IsEmpty);
    }

    [Fact]
    public void Undone_it_is_what_it_was()
    {
        string before = Kind.State(Place);
        Remove("Weather,Calculator,Assistant", more: w => w with { Sweep = true });
        Kind.State(Place).ShouldNotBe(before);
        ShouldBeGood(Undo(1));
        Kind.State(Place).ShouldBe(before);
        Points().Select(p => p.State).ShouldBe([PointState.Undone, PointState.InEffect]);
    }

    [Fact]
    public void Undone_in_part_the_rest_stays_as_the_run_left_it()
    {
        Remove("Weather,Calculator");
        ShouldBeGood(Undo(1, only: Demo.Family("Northlight.Weather")));
        Packages("Weather").ShouldAllBe(p => p.Newcomers && !p.Blocked);
        Packages("Calculator").ShouldBeEmpty();
        Points()[0].State.ShouldBe(PointState.UndoneInPart);
    }

    [Fact]
    public void An_older_run_is_undone_and_the_newer_one_stays()
    {
        Remove("Weather");
        Remove("Calculator");
        ShouldBeGood(Undo(1));
        Packages("Weather").ShouldNotBeEmpty();
        Packages("Calculator").ShouldBeEmpty();
    }

    [Fact]
    public void An_undo_is_undone()
    {
        Remove("Weather");
        Undo(1);
        ShouldBeGood(Undo(2));
        Packages("Weather").ShouldBeEmpty();
        Points()[0].State.ShouldBe(PointState.InEffect);
    }

    [Fact]
    public void Undone_twice_there_is_nothing_left_to_do()
    {
        Remove("Weather");
        Undo(1);
        string before = Kind.State(Place);
        Undo(1).ShouldBe(Outcome.Nothing);
        Kind.State(Place).ShouldBe(before);
    }

    [Fact]
    public void What_something_else_changed_since_is_a_conflict()
    {
        Guard(1);
        Guard(2, recorded: false);
        using (var target = Open())
        {
            using var vault = Vault.OpenExisting(VaultPath)!;
            var plan = new UndoOperation(target, vault, vault.Read(1)).Plan().Plan;
            (plan.HasEffect, plan.Conflicts.Length).ShouldBe((false, Read().Length));
        }
        ShouldBeGood(Undo(1, overwrite: true));
        using var after = Open();
        ImmutableArray<Guard> guards = [new Guard(null, GuardHive.Machine, @"Policies\Saltmarsh\Counter", HiveValue.FromDWord("Quiet", 1), null,
            null)];
        after.Read(after.SelectEditions([]), guards).ShouldAllBe(s => GuardStates.Of(s, guards, Audience.Nobody)[0].Now == null);
    }

    [Theory]
    [InlineData(0.0)]
    [InlineData(0.3)]
    [InlineData(0.6)]
    [InlineData(0.8)]
    [InlineData(0.95)]
    public void Cut_off_at_any_step_it_comes_back_to_what_it_was(double where)
    {
        string before = Kind.State(Place);
        long length = Directory.Exists(Place) ? 0 : new FileInfo(Place).Length;
        int steps = 0;
        Remove("Weather", interceptor: new WriteInterceptor((_, _) => steps++));
        Undo(1);
        Kind.State(Place).ShouldBe(before);
        Directory.Delete(VaultPath, recursive: true);
        int cut = (int)(where * steps);
        int step = 0;
        Should.Throw<PowerCutException>(() => Remove("Weather", interceptor: new WriteInterceptor((_, _) =>
        {
            if (step++ >= cut)
                throw new PowerCutException();
        })));
        Recover(length);
        Kind.State(Place).ShouldBe(before);
    }

    private sealed class PowerCutException : Exception;

    /// <summary>
    /// What a person does after a cut: undo, if the target or the vault says that a run began. What a cut left behind the end of an image does
    /// no harm, and goes with the next compacting; here it is cut off by hand.
    /// </summary>
    private void Recover(long length)
    {
        using (var target = Open())
        {
            target.AcquireForChange(afterInterruption: true);
            if (target is ImageTarget image)
            {
                using var vault = Vault.Open(VaultPath, new WriteInterceptor());
                ImageTransaction.Recover(image.Image, vault, TimeProvider.System);
            }
            if (target is VolumeTarget volume && target.DescribeInterruption() is not null)
            {
                var (vault, point) = InterruptedRun.Find(volume.Volume)!.Open(new WriteInterceptor());
                using var open = vault;
                var undoing = new UndoOperation(target, vault, point, interrupted: true);
                var proposal = undoing.Plan();
                if (proposal.HasEffect)
                    ShouldBeGood(undoing.CarryOut(proposal, new RunSettings(VaultPath, new WriteInterceptor()))!);
                else
                    InterruptedRun.Close(volume.Volume, vault, point, TimeProvider.System);
                return;
            }
        }
        if (Points() is [.., { State: PointState.InEffect, Point: { Kind: RunKind.Remove, Number: var number } }])
            ShouldBeGood(Undo(number));
        else if (new FileInfo(Place) is { Exists: true } file)
        {
            using var stream = file.OpenWrite();
            stream.SetLength(length);
        }
    }

    [Fact]
    public void One_run_at_a_time_has_it()
    {
        using var first = Open();
        first.AcquireForChange();
        using var second = Open();
        Should.Throw<MoorfieldException>(() => second.AcquireForChange()).Message.ShouldContain("another run");
    }

    [Fact]
    public void Declined_nothing_happens()
    {
        string before = Kind.State(Place);
        Remove("Weather", settings: new RunSettings(VaultPath, new WriteInterceptor()) { Confirm = () => false }).ShouldBeNull();
        Kind.State(Place).ShouldBe(before);
        Directory.Exists(VaultPath).ShouldBeFalse();
    }

    [Fact]
    public void Changed_while_a_person_is_asked_it_is_not_touched()
    {
        var settings = new RunSettings(VaultPath, new WriteInterceptor())
        {
            Confirm = () =>
            {
                Block("Larkfield.Ferry_8pewgm0k42rsa", recorded: false);
                return true;
            },
        };
        var error = Should.Throw<MoorfieldException>(() => Remove("Weather", settings: settings));
        (error.Kind, error.Message.Contains("since the preview")).ShouldBe((ErrorKind.Refused, true));
        Packages("Weather").ShouldNotBeEmpty();
    }

    [Fact]
    public void What_costs_something_is_accepted_first()
    {
        static RemovalRequest Noted(RemovalRequest request) =>
            request with { Advice = new Advice([new PackageNote("Weather", "The pilots look at it.")], []) };
        string before = Kind.State(Place);
        Should.Throw<MoorfieldException>(() => Remove("Weather", more: Noted, settings: new RunSettings(VaultPath, new WriteInterceptor())))
            .Message.ShouldContain("This costs something: Weather");
        Kind.State(Place).ShouldBe(before);
        ShouldBeGood(Remove("Weather", more: Noted));
    }

    [Fact]
    public void A_vault_inside_it_is_refused()
    {
        if (Directory.Exists(Place))
            Should.Throw<MoorfieldException>(() =>
                Remove("Weather", settings: new RunSettings(Path.Combine(Place, "vault"), new WriteInterceptor())))
                .Kind.ShouldBe(ErrorKind.InvalidUsage);
    }
}
