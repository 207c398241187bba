using System.Collections.Immutable;
using CsCheck;
using Moorfield.Core.Assessment;
using Moorfield.Core.Model;
using Moorfield.Core.Selection;
using Moorfield.Core.Storage;
using Moorfield.Core.Targets;
using Moorfield.Formats.Appx;
using Moorfield.Formats.Hives;
using Moorfield.Formats.Wim;
using Moorfield.StandIn;
using Moorfield.Tests;

namespace Moorfield.Core.Tests;

/// <summary>
/// Random systems and images are forecast, then played by the stand-in, which knows nothing of the forecast's code; then the two are compared.
/// </summary>
public sealed class ForecastPlayTests
{
    private const string Delivery = @"Software\Microsoft\Windows\CurrentVersion\ContentDeliveryManager";
    private static readonly string[] Profiles = ["counter", "ivy", "rowan", "Default"];

    // Families that share names, beginnings of names or publishers.
    private static readonly (string Name, string By)[] AppNames = [("Reed.Wick", "larkfield"), ("Reed.Wick.Map", "larkfield"),
        ("Reed.WickMap", "larkfield"), ("Reed.Wick", "pennywhistle"), ("Fen.Oar", "northlight")];
    private static readonly string[] ComponentNames = ["Northlight.Bell", "Northlight.BellTower", "Northlight.Buoy"];

    /// <param name="Version">Of what is installed; 0 when nothing is.</param>
    /// <param name="Accounts">Who has it: a bit for each of the three.</param>
    /// <param name="Other">Another version that rowan has; 0 when none.</param>
    /// <param name="Coming">Version in the image; 0 when it is not there.</param>
    /// <param name="Block">0 none, 1 as it is written, 2 in capitals.</param>
    /// <param name="Form">0 alone, 1 in a bundle, 2 of another architecture in the image.</param>
    private sealed record App(int Version, bool Provisioned, int Accounts, int Other, int Coming, bool ImageProvisions, int Block, int Form);

    /// <param name="Entry">Whether new accounts get it.</param>
    /// <param name="Honours">0 nothing, 1 a value of the machine, 2 one of accounts.</param>
    /// <param name="Set">Where that is set: a bit for each profile; the first for the machine.</param>
    private sealed record Component(int Version, bool Entry, int Accounts, int Coming, int Honours, int Set, int Block);

    /// <param name="Values">Where each of the four values of accounts is 0: a bit for each profile.</param>
    private sealed record Policies(bool Consumer, int[] Values);

    private static readonly Gen<App> Apps = Gen.Select(
        Gen.Int[0, 3], Gen.Bool, Gen.Int[0, 7], Gen.Int[0, 3], Gen.Int[0, 3], Gen.Bool, Gen.Int[0, 2], Gen.Int[0, 2],
        (version, provisioned, accounts, other, coming, provisions, block, form) =>
        new App(version, provisioned, accounts, other, coming, provisions, block, form));

    private static readonly Gen<Component> Components = Gen.Select(
        Gen.Int[0, 2], Gen.Bool, Gen.Int[0, 7], Gen.Int[0, 3], Gen.Int[0, 2], Gen.Int[0, 15], Gen.Int[0, 1],
        (version, entry, accounts, coming, honours, set, block) => new Component(version, entry, accounts, coming, honours, set, block));

    [Fact]
    public void What_is_forecast_is_what_happens() =>
        Gen.Select(Apps.Array[AppNames.Length], Components.Array[ComponentNames.Length], Gen.Bool, Gen.Int[0, 15].Array[4],
            (apps, components, consumer, values) => (apps, components, new Policies(consumer, values)))
            .Sample((apps, components, policies) => Compare(apps, components, policies), iter: 60, threads: 1);

    [Fact]
    public void A_hostile_image_is_played_within_the_volume()
    {
        using var folder = new TemporaryFolder(inMemory: true);
        var basis = World.Load();
        basis = basis with { SystemFiles = 0, Leftovers = [], Pins = [], Chosen = [], Programs = [], Packages = [] };
        string root = Demo.BuildIn(folder, basis, "a/b/c/d/e/f/g/h/volume");
        var app = Package(0, 1, true, [], false, "x64");
        var evil = basis with
        {
            Packages =
            [
                Framework("Reed.One", "Reed.Two"), Framework("Reed.Two", "Reed.One"),
                app with { Needs = ["Reed.One"], Apps = [app.Apps!.Value[0] with { Aliases = ["../../../../../../../../../evil.exe", "fine.exe"] }] },
            ],
        };
        ImageBuilder.Build(evil, [new WorldEdition("One", "", "Windows 10 Pro", "Professional", [])], folder["image.wim"], WimCompression.None);
        new WindowsSimulator(basis).Update(root, folder["image.wim"]).LaidOut.ShouldBe(4, "two frameworks, the app and a suggested one");
        Directory.GetFiles(folder.Path, "evil.exe", SearchOption.AllDirectories).ShouldBeEmpty();
        File.Exists(Path.Combine(root, "Users/ivy/AppData/Local/Microsoft/WindowsApps/fine.exe")).ShouldBeTrue();

        Directory.CreateSymbolicLink(Path.Combine(root, "Users/Default/Documents"), folder.Path);
        Should.Throw<InvalidDataException>(() => new WindowsSimulator(basis).SignIn(root, "hazel"))
            .Message.ShouldContain("Users/Default/Documents is a link");
        Directory.Exists(Path.Combine(root, "Users/hazel")).ShouldBeFalse();

        static WorldPackage Framework(string name, string needs) =>
        new(name, "larkfield", "1.0.0.0", name, null, 50, "framework", null, null, false, null, [needs], null, null, null, null);
    }

    private static void Compare(App[] apps, Component[] components, Policies policies)
    {
        using var folder = new TemporaryFolder(inMemory: true);
        var basis = World.Load();
        basis = basis with { SystemFiles = 0, Blocked = [], Leftovers = [], Pins = [], Chosen = [], Programs = [], Packages = [] };
        var world = basis with
        {
            Packages = [.. components.SelectMany((c, i) => Installed(c, i)), .. apps.SelectMany((a, i) => Installed(a, i))],
            Blocked = [.. apps.SelectMany((a, i) => Blocks(AppNames[i].Name, AppNames[i].By, a.Block)),
            .. components.SelectMany((c, i) => Blocks(ComponentNames[i], "northlight", c.Block))],
        };
        string root = Demo.BuildIn(folder, world);
        SetPolicies(root, world, components, policies);
        var next = basis with
        {
            Build = "28000",
            Packages = [.. components.SelectMany((c, i) => c.Coming == 0 ? [] : new[] { Part(i, c.Coming, [], c.Honours) }),
            .. apps.SelectMany((a, i) => a.Coming == 0 ? [] : new[] { Coming(a, i) })],
        };
        ImageBuilder.Build(next, [new WorldEdition("One", "The only one", "Windows 10 Pro", "Professional", [])], folder["image.wim"],
            WimCompression.None);

        var (before, guards) = Read(root, world, components);
        var (image, _) = Read(folder["image.wim"], world, []);
        var forecast = new Forecaster(before, guards, _ => false).Update(image);
        var play = new WindowsSimulator(world with { Packages = [.. world.Packages, .. next.Packages] });
        play.Update(root, folder["image.wim"]).Build.ShouldStartWith("28000.");
        var (after, guardsAfter) = Read(root, world, components);
        after.Notes.ShouldNotContain(n => n.Code == "registrationIncomplete" || n.Code == "registrationWithoutFiles");

        foreach (var family in forecast.Families)
        {
            var held = after.Packages.Where(p => p.Family == family.Family && p.IsHeld).ToList();
            held.SelectMany(p => p.Accounts).Distinct().ShouldBe(family.After.Sids, ignoreOrder: true, $"{family.Family} {family.Fate}");
            (held.Count == 0 ? (PackageVersion?)null : held.Max(p => p.FullName.Version)).ShouldBe(family.Then, $"{family.Family} {family.Fate}");
        }
        var delivered = Unforeseen(after, forecast);
        delivered.ShouldBe(forecast.Deliveries.Where(d => d.Kind == Model.Delivery.Suggested)
            .SelectMany(d => d.For.Sids.Select(s => ("Larkfield.Quiz", s))), ignoreOrder: true);

        var signIn = new Forecaster(after, guardsAfter, _ => false).SignIn();
        play.SignIn(root, "hazel");
        var (last, _) = Read(root, world, components);
        string hazel = last.Accounts.Single(a => a.Name == "hazel").Sid;
        var has = last.Packages.Where(p => p.Accounts.Contains(hazel) && p.Role is not PackageRole.Framework and not PackageRole.Resource)
            .Select(p => p.Family).ToHashSet();
        string[] names = ["Larkfield.Quiz", "Pennywhistle.Regatta", "Kestrelworks.Offers"];
        var own = has.Where(f => !names.Contains(f.Name)).ToList();
        own.ShouldBe(forecast.Families.Where(f => f.After.Newcomers).Select(f => f.Family), ignoreOrder: true);
        own.ShouldBe(signIn.Families.Where(f => f.After.Newcomers).Select(f => f.Family), ignoreOrder: true);
        has.Where(f => names.Contains(f.Name)).Select(f => f.Name).ShouldBe(signIn.Deliveries.Select(d => names[(int)d.Kind]), ignoreOrder: true);
        signIn.Deliveries.Select(d => d.Kind).ShouldBe(forecast.Deliveries.Where(d => d.For.Newcomers).Select(d => d.Kind));
    }

    /// <summary>What accounts have that is not in the forecast.</summary>
    private static IEnumerable<(string Name, string Sid)> Unforeseen(SystemSnapshot after, Forecast forecast) =>
        after.Packages.Where(p => p.Role is not PackageRole.Framework and not PackageRole.Resource
            && forecast.Families.All(f => f.Family != p.Family)).SelectMany(p => p.Accounts.Select(s => (p.FullName.Name, s)));

    private static (SystemSnapshot Snapshot, ImmutableArray<GuardState> Guards) Read(string path, World world, Component[] components)
    {
        using var target = Target.Open(path, new WriteInterceptor());
        var tied = components.Select((c, i) => (Policy: Policy(c, i), Name: ComponentNames[i])).Where(p => p.Policy is not null)
            .Select(p => new Guard(
            null, p.Policy!.Hive == "machine" ? GuardHive.Machine : GuardHive.Account, p.Policy.Key,
            HiveValue.FromDWord(p.Policy.Name, p.Policy.Data), Family(world, p.Name, "northlight"), null));
        Guard[] guards = [.. KnownGuards.All, .. tied];
        var snapshot = target.Read(target.SelectEditions([]), guards)[0];
        return (snapshot, GuardStates.Of(snapshot, guards, AudienceParser.Parse(["everyone"], snapshot)));
    }

    private static string Family(World world, string name, string by) => $"{name}_{PublisherId.FromPublisher(world.Publishers[by].Dn)}";

    private static ImmutableArray<string> Names(int bits) => [.. Profiles.Where((_, i) => (bits >> i & 1) == 1)];

    private static IEnumerable<WorldFamily> Blocks(string name, string by, int block) =>
    block == 0 ? [] : [new WorldFamily(block == 1 ? name : name.ToUpperInvariant(), by)];

    private static IEnumerable<WorldPackage> Installed(App app, int index)
    {
        if (app.Version > 0)
            yield return Package(index, app.Version, app.Provisioned, Names(app.Accounts), app.Form == 1, "x64");
        if (app.Other > 0 && app.Other != app.Version)
            yield return Package(index, app.Other, false, ["rowan"], false, "x64");
    }

    private static WorldPackage Coming(App app, int index) =>
    Package(index, app.Coming, app.ImageProvisions, [], app.Form == 1, app.Form == 2 ? "x86" : "x64");

    private static WorldPackage Package(int index, int version, bool provisioned, ImmutableArray<string> accounts, bool bundle,
    string architecture) => new(
        AppNames[index].Name, AppNames[index].By, $"{version}.0.0.0", $"App {index}", null, 50, null, architecture, bundle ? $"202{version}.1.0.0"
        : null, provisioned, accounts, null,
        bundle ? ["split.language-de"] : null, null,
        [new WorldApp("App", null, false, [$".a{index}"], [$"app{index}"], null, [$"app{index}.exe"], false, false, null)], null);

    private static IEnumerable<WorldPackage> Installed(Component component, int index) =>
        component.Version == 0 ? [] : [Part(index, component.Version, Names(component.Accounts), component.Honours)];

    private static WorldPackage Part(int index, int version, ImmutableArray<string> accounts, int honours) => new(
        ComponentNames[index], "northlight", $"{version}.0.0.0", $"Part {index}", null, 50, "component", null, null, false, accounts, null, null,
        null,
        [new WorldApp("App", null, false, null, [$"part{index}"], null, null, false, false, null)], null)
    { Honours = Policy(honours, index) };

    private static WorldPolicy? Policy(Component component, int index) => Policy(component.Honours, index);

    private static WorldPolicy? Policy(int honours, int index) =>
    honours == 0 ? null : new WorldPolicy(honours == 1 ? "machine" : "account", @"Policies\Northlight\Parts", $"Off{index}", 1);

    private static void SetPolicies(string root, World world, Component[] components, Policies policies)
    {
        HiveEdit.Change(HiveEdit.Software(root), hive =>
        {
            if (policies.Consumer)
                hive.Create(@"Policies\Microsoft\Windows\CloudContent").Set(HiveValue.FromDWord("DisableWindowsConsumerFeatures", 1));
            foreach (var (component, i) in components.Select((c, i) => (c, i)))
            {
                if (component.Honours == 1 && (component.Set & 1) == 1)
                    hive.Create(@"Policies\Northlight\Parts").Set(HiveValue.FromDWord($"Off{i}", 1));
                if (component is { Version: > 0, Entry: false })
                    hive.Find($@"{HiveEdit.Store}\InboxApplications\{ComponentNames[i]}_{component.Version}.0.0.0_neutral_neutral_{PublisherId.FromPublisher(world.Publishers["northlight"].Dn)}")!.Value.Delete();
            }
        });
        string[] values = ["ContentDeliveryAllowed", "SilentInstalledAppsEnabled", "PreInstalledAppsEnabled", "OemPreInstalledAppsEnabled"];
        foreach (string profile in Profiles)
        {
            HiveEdit.Change(Path.Combine(root, "Users", profile, "NTUSER.DAT"), hive =>
            {
                for (int i = 0; i < values.Length; i++)
                {
                    if (Names(policies.Values[i]).Contains(profile))
                        hive.Create(Delivery).Set(HiveValue.FromDWord(values[i], 0));
                }
                foreach (var (component, i) in components.Select((c, i) => (c, i)).Where(c => c.c.Honours == 2 && Names(c.c.Set).Contains(profile)))
                    hive.Create(@"Policies\Northlight\Parts").Set(HiveValue.FromDWord($"Off{i}", 1));
            });
        }
    }
}
