using System.Collections.Immutable;
using System.Text;
using Moorfield.Core.Assessment;
using Moorfield.Core.Model;
using Moorfield.Core.Operations;
using Moorfield.Core.Planning;
using Moorfield.Core.Selection;
using Moorfield.Core.Storage;
using Moorfield.Formats.Appx;
using Moorfield.Formats.Hives;
using Moorfield.Tests;

namespace Moorfield.Core.Tests;

public sealed class GuardTests : IDisposable
{
    private const string Delivery = @"Software\Microsoft\Windows\CurrentVersion\ContentDeliveryManager";
    private static readonly ImmutableArray<Guard> Guards =
        KnownGuards.Find(["offered-apps", "suggested-apps", "partner-apps", "maker-apps", "all-offers"]);

    private readonly TemporaryFolder _folder = new(inMemory: true);
    private readonly Bench _bench;

    public GuardTests() => _bench = new Bench(_folder);

    private ImmutableArray<GuardState> Read(string who = "everyone")
    {
        using var target = _bench.Open();
        var snapshot = target.Read([null], Guards)[0];
        return GuardStates.Of(snapshot, Guards, AudienceParser.Parse([who], snapshot));
    }

    private Outcome Change(bool lift, string who = "everyone")
    {
        using var target = _bench.Open();
        var guarding = new GuardOperation(target, target.Read([null], Guards), Guards, [who], lift);
        return guarding.CarryOut(guarding.Plan(), new RunSettings(_folder["vault"], new WriteInterceptor()))!;
    }

    [Fact]
    public void Every_known_guard_has_a_name_and_a_sentence()
    {
        KnownGuards.All.Length.ShouldBe(31);
        KnownGuards.All.Where(g => !g.Stops.IsEmpty).ShouldBe(Guards);
        KnownGuards.All.Where(g => g.IsAbsence).Select(g => g.Name).ShouldBe(["setup-fetched-apps"]);
        KnownGuards.All.ShouldAllBe(g => g.Name!.Length > 0 && g.Because!.EndsWith('.'));
        KnownGuards.All.Select(g => g.Name).ShouldBeUnique();
        Should.Throw<MoorfieldException>(() => KnownGuards.Find(["offered-app"])).Message.ShouldContain("The nearest is 'offered-apps'");
    }

    [Fact]
    public void A_guard_of_the_machine_is_noted_for_nobody_in_particular()
    {
        Change(lift: false).Failures.ShouldBeEmpty();
        using var vault = Core.Vaults.Vault.OpenExisting(_folder["vault"])!;
        var intents = vault.Read(1).Intents;
        var machine = intents.Single(i => i.Subject.Contains("offered", StringComparison.OrdinalIgnoreCase));
        (machine.Newcomers, machine.Sids.Length).ShouldBe((false, 0));
        var others = intents.Where(i => i != machine).ToList();
        others.ShouldAllBe(i => i.Newcomers == (i.Sids.Length == 0));
        others.Count(i => i.Newcomers).ShouldBe(others.Select(i => i.Subject).Distinct().Count());
    }

    [Fact]
    public void Guards_are_not_set_set_or_set_otherwise()
    {
        var before = Read();
        before.Length.ShouldBe(1 + (4 * 4));
        before.ShouldAllBe(s => !s.IsSet);
        before.Single(s => s.Guard.Name == "offered-apps").Now.ShouldBeNull();
        before.Where(s => s.Guard.Hive == GuardHive.Account).ShouldAllBe(s => s.Now!.AsDWord() == 1);
        Read("ivy").Select(s => s.Sid).Distinct().ShouldBe([null, Demo.Sid("ivy")]);
    }

    [Fact]
    public void An_account_whose_hive_is_gone_has_no_guards_and_new_ones_cannot_do_without()
    {
        File.Delete(Path.Combine(_bench.Root, "Users/rowan/NTUSER.DAT"));
        Read().Length.ShouldBe(1 + (4 * 3));
        File.Delete(Path.Combine(_bench.Root, "Users/Default/NTUSER.DAT"));
        Should.Throw<MoorfieldException>(() => Read()).Message.ShouldContain(@"Users\Default\NTUSER.DAT is not there");
    }

    [Fact]
    public void Set_and_undone_everything_is_as_before_type_and_all()
    {
        HiveEdit.Change(Path.Combine(_bench.Root, "Users/ivy/NTUSER.DAT"),
        h => h.Find(Delivery)!.Value.Set(HiveValue.FromString("SilentInstalledAppsEnabled", "perhaps")));
        string before = VolumeState.Files(_bench.Root);
        Change(lift: false).Failures.ShouldBeEmpty();
        Read().ShouldAllBe(s => s.IsSet);
        Tool.Read("hivexregedit", "--export", Path.Combine(_bench.Root, "Users/Default/NTUSER.DAT"), $@"\{Delivery}")
            .ShouldContain("\"OemPreInstalledAppsEnabled\"=dword:00000000");
        _bench.Undo(1).Failures.ShouldBeEmpty();
        VolumeState.Files(_bench.Root).ShouldBe(before);
    }

    [Fact]
    public void One_guard_of_several_can_be_undone_alone()
    {
        HiveEdit.Change(Path.Combine(_bench.Root, "Users/ivy/NTUSER.DAT"),
        h => h.Find(Delivery)!.Value.Set(HiveValue.FromString("SilentInstalledAppsEnabled", "perhaps")));
        Change(lift: false).Failures.ShouldBeEmpty();
        _bench.Undo(1, "suggested-apps").Failures.ShouldBeEmpty();
        var states = Read();
        states.Where(s => s.Guard.Name == "suggested-apps").ShouldAllBe(s => !s.IsSet);
        states.Single(s => s.Guard.Name == "suggested-apps" && s.Sid == Demo.Sid("ivy")).Now!.AsString().ShouldBe("perhaps");
        states.Where(s => s.Guard.Name != "suggested-apps").ShouldAllBe(s => s.IsSet);
    }

    [Fact]
    public void Lifting_takes_only_what_is_set()
    {
        Change(lift: false, "ivy").Failures.ShouldBeEmpty();
        Change(lift: true).Changes.ShouldBe(1 + 4);
        Read().Where(s => s.Sid == Demo.Sid("rowan")).ShouldAllBe(s => s.Now!.AsDWord() == 1);
        Read("ivy").ShouldAllBe(s => s.Now == null);
    }

    [Fact]
    public void A_brief_may_name_a_known_guard()
    {
        string file = _folder.Write("b.yaml", "brief: 1\nguard: [offered-apps, {hive: machine, key: A, name: B, type: dword, data: 1}]"u8);
        new BriefLoader(_ => []).Load(file).Guards.Select(g => g.Name).ShouldBe(["offered-apps", null]);
        _folder.Write("b.yaml", "brief: 1\nguard: [offered-aps]"u8);
        Should.Throw<MoorfieldException>(() => new BriefLoader(_ => [])
            .Load(file)).Message.ShouldContain(":2:9: There is no guard 'offered-aps'. The nearest is 'offered-apps'");
    }

    [Fact]
    public void Blocks_and_guards_go_through_a_registry_text_file_and_back()
    {
        ImmutableArray<PackageFamilyName> blocks = [.. new[] { "Gannet.Charts_8pewgm0k42rsa",
        "Larkfield.Atlas_j9egfkezhr26y" }.Select(f => PackageFamilyName.TryParse(f, out var family) ? family : default)];
        byte[] text = RegistryExchange.Write("counter-07", blocks, KnownGuards.All);
        var read = RegistryExchange.Read("x.reg", text);
        read.Blocks.ShouldBe(blocks);
        read.Guards.Select(g => g.Name).ShouldBe(KnownGuards.All.Where(g => !g.IsAbsence).Select(g => g.Name), ignoreOrder: true);
        // The older header in one byte a letter, with keys in another case.
        string old = "REGEDIT4\n[hkey_local_machine\\software\\microsoft\\windows\\currentversion\\appx\\appxalluserstore\\deprovisioned\\Gannet.Charts_8pewgm0k42rsa]\n";
        RegistryExchange.Read("x.reg", Encoding.ASCII.GetBytes(old)).Blocks.ShouldHaveSingleItem().Name.ShouldBe("Gannet.Charts");
    }

    [Theory]
    [InlineData(@"[HKEY_LOCAL_MACHINE\SOFTWARE\Other]", ":2: ")]
    [InlineData(@"[-HKEY_LOCAL_MACHINE\SOFTWARE\Microsoft\Windows\CurrentVersion\Appx\AppxAllUserStore\Deprovisioned\Gannet.Charts_8pewgm0k42rsa]",
        ":2: ")]
    [InlineData(@"[HKEY_LOCAL_MACHINE\SOFTWARE\Microsoft\Windows\CurrentVersion\Appx\AppxAllUserStore\Deprovisioned\NoFamily]", ":2: ")]
    [InlineData("[HKEY_LOCAL_MACHINE\\SOFTWARE\\Policies\\Microsoft\\Windows\\CloudContent]\n\"DisableWindowsConsumerFeatures\"=dword:2", ":3: ")]
    [InlineData("[HKEY_LOCAL_MACHINE\\SOFTWARE\\Policies\\Microsoft\\Windows\\CloudContent]\n\"Other\"=dword:1", ":3: ")]
    [InlineData("[HKEY_LOCAL_MACHINE\\SOFTWARE\\Policies\\Microsoft\\Windows\\CloudContent]\n\"DisableWindowsConsumerFeatures\"=-", ":3: ")]
    public void Anything_else_in_such_a_file_is_refused_with_its_line(string text, string line)
    {
        var error = Should.Throw<MoorfieldException>(() =>
        RegistryExchange.Read("x.reg", Encoding.UTF8.GetBytes("Windows Registry Editor Version 5.00\n" + text)));
        error.Message.ShouldContain("x.reg" + line);
        error.Message.ShouldContain("is neither a block nor a known guard");
    }

    [Theory]
    [InlineData("NORTHLIGHT.weather_8PEWGM0K42RSA", true)]
    [InlineData("Northlight.Weather_20jv3wd6jp5fj", false)]
    [InlineData("Northlight.Weathe_8pewgm0k42rsa", false)]
    [InlineData("Northlight.WeatherMap_8pewgm0k42rsa", false)]
    public void A_block_holds_for_its_family_in_any_case_of_letters_and_for_no_other(string block, bool holds)
    {
        HiveEdit.Change(_bench.Software, h => h.Create($@"{HiveEdit.Store}\Deprovisioned\{block}"));
        var snapshot = _bench.Read();
        snapshot.Packages.Single(p => p.FullName.Name == "Northlight.Weather").Blocked.ShouldBe(holds);
        BlockPlanner.Block(snapshot, [snapshot.Packages.Single(p => p.FullName.Name == "Northlight.Weather").Family]).Changes.Length.ShouldBe(holds
            ? 0 : 1);
    }

    [Fact]
    public void A_family_that_is_a_letter_off_is_told()
    {
        var snapshot = _bench.Read();
        PackageFamilyName.TryParse("Northlight.Wether_8pewgm0k42rsa", out var off).ShouldBeTrue();
        BlockPlanner.NearMiss([snapshot], off)!.Value.Letters.ShouldBe(1);
        PackageFamilyName.TryParse("Gannet.Charts_8pewgm0k42rsa", out var far).ShouldBeTrue();
        BlockPlanner.NearMiss([snapshot], far).ShouldBeNull();
        BlockPlanner.NearMiss([snapshot], snapshot.Packages[0].Family).ShouldBeNull();
    }

    [Fact]
    public void The_run_that_set_a_block_is_known_until_it_is_undone()
    {
        _bench.Remove("Weather", "everyone");
        var family = _bench.Read().Blocks.Single(b => b.Name == "Northlight.Weather");
        var target = _bench.Identity();
        new BlockHistory(_bench.Points(), target).SetBy(family, null)!.Number.ShouldBe(1);
        new BlockHistory(_bench.Points(), target).SetBy(family, 1).ShouldBeNull();
        // A run that set no block, of a package that goes for one account.
        var calculator = _bench.Read().Packages.Single(p => p.DisplayName == "Calculator").Family;
        _bench.Remove("Calculator", "ivy");
        new BlockHistory(_bench.Points(), target).SetBy(calculator, null).ShouldBeNull();
        new BlockHistory(_bench.Points(), target).SetBy(family, null)!.Number.ShouldBe(1);
        new BlockHistory(_bench.Points(), target with { Path = _folder["elsewhere"] }).SetBy(family, null).ShouldBeNull();
        _bench.Read().BlockTimes[family].ShouldNotBeNull();
        _bench.Undo(1);
        new BlockHistory(_bench.Points(), target).SetBy(family, null).ShouldBeNull();
    }

    public void Dispose() => _folder.Dispose();
}
