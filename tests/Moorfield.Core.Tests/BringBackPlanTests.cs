using System.Collections.Immutable;
using System.Text;
using System.Xml.Linq;
using Moorfield.Core.Layout;
using Moorfield.Core.Model;
using Moorfield.Core.Planning;
using Moorfield.Core.Reading;
using Moorfield.Core.Storage;
using Moorfield.Core.Transactions;
using Moorfield.Core.Trees;
using Moorfield.Formats.Appx;
using Moorfield.StandIn;
using Moorfield.Tests;

namespace Moorfield.Core.Tests;

/// <summary>What bringing back takes, and what it does not take: each choice for itself.</summary>
public sealed class BringBackPlanTests : IDisposable
{
    private const string Publisher = "CN=Tern Harbour Games";
    private readonly TemporaryFolder _folder = new(inMemory: true);
    private readonly Bench _bench;

    public BringBackPlanTests() => _bench = new Bench(_folder, few: true);

    /// <summary>A place with packages that have a manifest and nothing else.</summary>
    private sealed class Place(string name, params OfferedPackage[] packages) : PackageOffer
    {
        public override string Name => name;

        public override ImmutableArray<OfferedPackage> Packages { get; } = [.. packages];

        internal override IEnumerable<OfferedFile> Files(PackageFullName part)
        {
            byte[] content = Encoding.UTF8.GetBytes($"what {part} holds");
            yield return new OfferedFile("AppxManifest.xml", content.Length, default, () => new MemoryStream(content), content.Length);
        }
    }

    private static OfferedPackage Offered(string name, string version, string publisher = Publisher, string architecture = "x64",
        string? needs = null, bool framework = false, string? opens = null)
    {
        string xml = $"""
            <Package xmlns="http://schemas.microsoft.com/appx/manifest/foundation/windows10" xmlns:uap="http://schemas.microsoft.com/appx/manifest/uap/windows10">
              <Identity Name="{name}" Publisher="{publisher}" Version="{version}" ProcessorArchitecture="{architecture}"/>
              <Properties><DisplayName>{name}</DisplayName><PublisherDisplayName>Tern</PublisherDisplayName><Logo>a.png</Logo>
                <Framework>{(framework ? "true" : "false")}</Framework></Properties>
              <Dependencies>{needs}</Dependencies>
              {(opens is null ? "<Applications/>" : $"<Applications><Application Id=\"App\"><Extensions>{opens}</Extensions></Application></Applications>")}
            </Package>
            """;
        using var stream = new MemoryStream(Encoding.UTF8.GetBytes(xml));
        var manifest = AppxManifestReader.Read(stream);
        var full = manifest.Identity.FullName;
        return new OfferedPackage(full, full, [full], name, framework ? PackageRole.Framework : PackageRole.Application, false, manifest);
    }

    private static string Needs(string version, string publisher = Publisher) =>
        $"<PackageDependency Name=\"Tern.Engine\" MinVersion=\"{version}\" Publisher=\"{publisher}\"/>";

    private BringBackPlan Plan(string argument, params PackageOffer[] others) => Plan(new Audience([], Newcomers: true), argument, others, []);

    private BringBackPlan Plan(Audience who, string argument, PackageOffer[] others, PackageOffer[] recorded)
    {
        using var volume = WindowsVolume.Open(_bench.Root, new WriteInterceptor());
        var snapshot = _bench.Read();
        using var facts = new BringBackFacts(volume, snapshot, others, () => recorded);
        return new BringBackPlanner(facts, snapshot, who, [], DateTimeOffset.UnixEpoch).Plan([argument]);
    }

    [Fact]
    public void Keys_rows_and_files_come_back_of_every_part()
    {
        var snapshot = _bench.Read();
        var game = Offered("Tern.Chess", "1.0.0.0");
        PackageFullName.TryParse(game.Main.ToString().Replace("_x64__", "_neutral_split.language-de_", StringComparison.Ordinal), out var second)
            .ShouldBeTrue();
        var place = new Place("chess.msix", game with { Parts = [game.Main, second] });
        var plan = Plan(new Audience([snapshot.Accounts[0].Sid], false), "Tern.Chess", [place], []);
        plan.Changes.Select(c => c.GetType().Name).Distinct().Order().ShouldBe(["KeyAdded", "RowsAdded", "TreeAdded"]);
        plan.Changes.OfType<TreeAdded>().Select(t => t.Path.Name)
            .ShouldBe([$"{game.Main}", $"{game.Main}.xml", $"{second}", $"{second}.xml"], ignoreOrder: true);
        int Keys(PackageFullName part) => plan.Changes.OfType<KeyAdded>().Count(k => k.Key.EndsWith($@"\{part}", StringComparison.OrdinalIgnoreCase));
        var places = new[] { PlaceContainer.Software, PlaceContainer.Classes }.SelectMany(PackagePlaces.KeysIn)
            .Where(p => p.BringBack is not null && p.Scope != TraceScope.Newcomers && p.ForComponents != true).ToList();
        Keys(second).ShouldBe(places.Count(p => p.ForEachPart));
        Keys(game.Main).ShouldBeGreaterThan(Keys(second));
    }

    [Fact]
    public void It_says_what_does_not_come_along()
    {
        var accounts = _bench.Read().Accounts;
        var ivy = new Audience([accounts[0].Sid], false);
        var two = new Audience([accounts[0].Sid, accounts[1].Sid], false);
        var game = Offered("Tern.Chess", "1.0.0.0");
        var place = new Place("chess.msix", game);
        const string Unsigned = "chess.msix: all contents are as its block map has them; its signature was not verified.",
            Data = "Tern.Chess comes back without the data that people had in it; a restore point of its removal would have that.";
        Plan(ivy, "Tern.Chess", [place], []).Notes.ShouldBe([Unsigned, Data], ignoreOrder: true);
        Plan("Tern.Chess", place).Notes.ShouldBe([Unsigned]);
        Plan(ivy, "Tern.Chess", [new Place("engine.msix", game with { Role = PackageRole.Framework })], []).Notes.Length.ShouldBe(1);
        // From a restore point there is no signature to verify, and undo has the data.
        Plan(ivy, "Tern.Chess", [], [new Place("restore point 7", game)]).Notes
            .ShouldBe(["Tern.Chess comes back without the data that people had in it; undoing restore point 7 would bring that back, too."]);
        // Its own folder is as Windows left it.
        Plan(ivy, "Northlight.Weather", [], []).Notes.ShouldBeEmpty();
        string opens = "Windows sets up file types, links and aliases of ";
        var plain = Offered("Tern.Chess", "1.0.0.0", opens: "<uap:Extension Category=\"windows.protocol\"><uap:Protocol Name=\"chess\"/></uap:Extension>");
        Plan(ivy, "Tern.Chess", [new Place("a", plain)], []).Notes.ShouldContain($"{opens}Tern.Chess when {accounts[0].Name} signs in next.");
        Plan(two, "Tern.Chess", [new Place("a", plain)], []).Notes
            .ShouldContain($"{opens}Tern.Chess when {accounts[0].Name} and {accounts[1].Name} sign in next.");
        Plan("Tern.Chess", new Place("a", plain)).Notes.ShouldNotContain(n => n.StartsWith(opens, StringComparison.Ordinal));
    }

    [Fact]
    public void An_addon_that_could_come_as_well_is_named()
    {
        var game = Offered("Tern.Chess", "1.0.0.0");
        var pieces = Offered("Tern.Chess.Pieces", "1.0.0.0",
            needs: "<uap3:MainPackageDependency xmlns:uap3=\"http://schemas.microsoft.com/appx/manifest/uap/windows10/3\" Name=\"Tern.Chess\"/>");
        pieces.Manifest.MainPackages.ShouldBe(["Tern.Chess"]);
        Plan("Tern.Chess", new Place("elsewhere", game, pieces)).Notes
            .ShouldContain("Tern.Chess.Pieces, which extends Tern.Chess, is also there: name it to bring it back.");
        Plan("Tern.Chess", new Place("elsewhere", game)).Notes.ShouldNotContain(n => n.Contains("extends"));
    }

    [Fact]
    public void Restore_points_are_looked_at_last_and_for_what_is_needed_too()
    {
        var game = Offered("Tern.Chess", "1.0.0.0", needs: Needs("2.0.0.0"));
        var engine = Offered("Tern.Engine", "2.1.0.0", framework: true);
        var recorded = new Place("restore point 3", Offered("Tern.Chess", "2.0.0.0"), engine);
        var newcomers = new Audience([], Newcomers: true);
        Plan(newcomers, "Tern.Chess", [new Place("elsewhere", game)], [recorded]).Packages.Select(p => (p.DisplayName, p.From))
            .ShouldBe([("Tern.Engine", "restore point 3"), ("Tern.Chess", "elsewhere")]);
        Plan(newcomers, "Tern.Chess", [], [recorded]).Packages.ShouldHaveSingleItem().FullName.Version.ToString().ShouldBe("2.0.0.0");
        Should.Throw<MoorfieldException>(() => Plan(newcomers, "Tern.Draughts", [], [recorded])).Message.ShouldContain("No package here is called");
    }

    [Theory]
    [InlineData("2.0.0.0", true)]
    [InlineData("2.1.0.0", true)]
    [InlineData("2.1.0.1", false)]
    [InlineData("3.0.0.0", false)]
    public void A_framework_that_is_too_old_is_not_what_it_needs(string wanted, bool fits)
    {
        var game = Offered("Tern.Chess", "1.0.0.0", needs: Needs(wanted));
        var engine = Offered("Tern.Engine", "2.1.0.0", framework: true);
        if (fits)
        {
            Plan("Tern.Chess", new Place("elsewhere", game, engine)).Packages.Select(p => p.DisplayName).ShouldBe(["Tern.Engine", "Tern.Chess"]);
            return;
        }
        var refused = Should.Throw<MoorfieldException>(() => Plan("Tern.Chess", new Place("elsewhere", game, engine)));
        refused.Kind.ShouldBe(ErrorKind.Refused);
        refused.Message.ShouldContain($"needs Tern.Engine {wanted} or later");
    }

    [Fact]
    public void A_framework_of_that_name_from_somebody_else_is_not_what_it_needs()
    {
        var game = Offered("Tern.Chess", "1.0.0.0", needs: Needs("2.0.0.0"));
        var other = Offered("Tern.Engine", "2.1.0.0", publisher: "CN=Somebody Else", framework: true);
        Should.Throw<MoorfieldException>(() => Plan("Tern.Chess", new Place("elsewhere", game, other))).Message.ShouldContain("needs Tern.Engine");
        var right = Offered("Tern.Engine", "2.0.0.0", framework: true);
        Plan("Tern.Chess", new Place("elsewhere", game, other), new Place("another", right)).Packages.Select(p => p.FullName)
            .ShouldBe([right.Main, game.Main]);
    }

    [Fact]
    public void A_framework_for_another_architecture_is_not_what_it_needs()
    {
        var game = Offered("Tern.Chess", "1.0.0.0", needs: Needs("2.0.0.0"));
        var other = Offered("Tern.Engine", "2.1.0.0", architecture: "arm64", framework: true);
        Should.Throw<MoorfieldException>(() => Plan("Tern.Chess", new Place("elsewhere", game, other))).Message.ShouldContain("needs Tern.Engine");
    }

    [Fact]
    public void Of_several_versions_the_newest_comes()
    {
        var old = Offered("Tern.Chess", "1.9.0.0");
        var newest = Offered("Tern.Chess", "1.10.0.0");
        Plan("Tern.Chess", new Place("elsewhere", old, newest)).Packages.Single().FullName.ShouldBe(newest.Main);
    }

    [Theory]
    [InlineData("x86", "x64", "x64")]
    [InlineData("x86", "x86", "x86")]
    [InlineData("arm64", "arm64", "arm64")]
    [InlineData("x86", "arm64", "x64")]
    [InlineData("neutral", "x64", "x64")]
    [InlineData("neutral", "arm", "neutral")]
    [InlineData("x86", "", "x64")]
    public void Of_a_bundle_the_best_architecture_comes(string other, string own, string wanted)
    {
        string path = _folder["weather.msixbundle"];
        PackageFileWriter.Write(_bench.Root, "Northlight.Weather", path);
        // The stand-in's bundle has one architecture; a second member is that one under another name.
        Rebundle(path, other);
        using var offer = new ArchiveOffer(path, _bench.Read() with { Architecture = own }, ["en-US"]);
        offer.Packages.Single().Main.Architecture.ShouldBe(wanted);
    }

    [Fact]
    public void A_bundle_that_has_nothing_for_a_system_is_refused_and_says_what_it_has()
    {
        string path = _folder["weather.msixbundle"];
        PackageFileWriter.Write(_bench.Root, "Northlight.Weather", path);
        var refused = Should.Throw<MoorfieldException>(() => new ArchiveOffer(path, _bench.Read() with { Architecture = "x86" }, ["en-US"]));
        refused.Kind.ShouldBe(ErrorKind.Refused);
        refused.Message.ShouldMatch("^weather.msixbundle holds nothing that can run there: Northlight.Weather_.*_x64__.* is for x64, and this "
            + "Windows is for x86, which runs packages for x86.$");
        refused = Should.Throw<MoorfieldException>(() => new ArchiveOffer(path, _bench.Read() with { Build = "17134.1" }, ["en-US"]));
        refused.Message.ShouldEndWith("needs Windows 10.0.17763.0 or later, and this is 10.0.17134.1.");
    }

    [Theory]
    [InlineData("arm64", "Windows.Desktop", "10.0.17763.0", "is for arm64, and this Windows is for x64, which runs packages for x64 and x86.")]
    [InlineData("x64", "Windows.Desktop", "10.0.30000.0", "needs Windows 10.0.30000.0 or later, and this is 10.0.26100.2314.")]
    [InlineData("x64", "Windows.Xbox", "10.0.17763.0", "is made for Windows.Xbox, which this is not.")]
    public void What_cannot_run_there_is_refused(string architecture, string device, string version, string reason)
    {
        var game = Offered("Tern.Chess", "1.0.0.0", architecture: architecture,
            needs: $"<TargetDeviceFamily Name=\"{device}\" MinVersion=\"{version}\" MaxVersionTested=\"10.0.30000.0\"/>");
        var refused = Should.Throw<MoorfieldException>(() => Plan("Tern.Chess", new Place("elsewhere", game)));
        (refused.Kind, refused.Message).ShouldBe((ErrorKind.Refused, $"Tern.Chess 1.0.0.0 {reason}"));
    }

    [Fact]
    public void Of_an_offer_of_several_the_best_that_fits_comes()
    {
        static OfferedPackage Game(string version, string architecture, string least) => Offered("Tern.Chess", version, architecture: architecture,
            needs: $"<TargetDeviceFamily Name=\"Windows.Universal\" MinVersion=\"{least}\" MaxVersionTested=\"10.0.30000.0\"/>");
        var (tooNew, other, second) = (Game("3.0.0.0", "x64", "10.0.30000.0"), Game("2.5.0.0", "arm64", "10.0.0.0"),
            Game("2.0.0.0", "x86", "10.0.0.0"));
        var best = Game("2.0.0.0", "x64", "10.0.0.0");
        Plan("Tern.Chess", new Place("elsewhere", tooNew, other, second, best)).Packages.Single().FullName.ShouldBe(best.Main);
        Plan("Tern.Chess", new Place("elsewhere", tooNew, other, second)).Packages.Single().FullName.ShouldBe(second.Main);
        // A framework is there in every architecture side by side.
        var (engine, engine86) = (Offered("Tern.Engine", "2.0.0.0", framework: true), Offered("Tern.Engine", "2.0.0.0", architecture: "x86",
            framework: true));
        Plan("Tern.Engine", new Place("elsewhere", engine86, engine)).Packages.Select(p => p.FullName).ShouldBe([engine.Main, engine86.Main]);
    }

    /// <summary>Puts a second main package into a bundle, for another architecture.</summary>
    private static void Rebundle(string path, string architecture)
    {
        using var zip = System.IO.Compression.ZipFile.Open(path, System.IO.Compression.ZipArchiveMode.Update);
        byte[] Read(string name)
        {
            using var stream = zip.GetEntry(name)!.Open();
            using var content = new MemoryStream();
            stream.CopyTo(content);
            return content.ToArray();
        }
        void Write(string name, byte[] content)
        {
            zip.GetEntry(name)?.Delete();
            using var stream = zip.CreateEntry(name, System.IO.Compression.CompressionLevel.NoCompression).Open();
            stream.Write(content);
        }
        string member = zip.Entries.First(e => e.Name.EndsWith("_x64.appx", StringComparison.Ordinal)).FullName;
        byte[] inner = Read(member);
        using (var changed = new MemoryStream())
        {
            changed.Write(inner);
            using (var package = new System.IO.Compression.ZipArchive(changed, System.IO.Compression.ZipArchiveMode.Update, leaveOpen: true))
            {
                var entry = package.GetEntry("AppxManifest.xml")!;
                string xml;
                using (var reader = new StreamReader(entry.Open()))
                    xml = reader.ReadToEnd().Replace("\"x64\"", $"\"{architecture}\"", StringComparison.Ordinal);
                byte[] manifest = Encoding.UTF8.GetBytes(xml);
                entry.Delete();
                using (var stream = package.CreateEntry("AppxManifest.xml").Open())
                    stream.Write(manifest);
                Map(package, "AppxManifest.xml", manifest);
            }
            Write(member.Replace("_x64.", $"_{architecture}.", StringComparison.Ordinal), changed.ToArray());
        }
        const string Bundle = "AppxMetadata/AppxBundleManifest.xml";
        string listed = Encoding.UTF8.GetString(Read(Bundle));
        int at = listed.IndexOf("<Package ", StringComparison.Ordinal);
        while (!listed[at..listed.IndexOf('>', at)].Contains("\"x64\"", StringComparison.Ordinal))
            at = listed.IndexOf("<Package ", at + 1, StringComparison.Ordinal);
        int end = listed.IndexOf("/>", at, StringComparison.Ordinal) + 2;
        byte[] both = Encoding.UTF8.GetBytes(listed.Insert(end, listed[at..end].Replace("x64", architecture, StringComparison.Ordinal)));
        Write(Bundle, both);
        Map(zip, Bundle.Replace('/', '\\'), both);

        static void Map(System.IO.Compression.ZipArchive zip, string name, byte[] content)
        {
            var entry = zip.GetEntry("AppxBlockMap.xml")!;
            XElement map;
            using (var stream = entry.Open())
                map = XElement.Load(stream);
            var file = map.Elements().Single(e => (string?)e.Attribute("Name") == name);
            file.SetAttributeValue("Size", content.Length);
            file.Elements().Remove();
            for (int i = 0; i < content.Length; i += PackageArchive.BlockSize)
            {
                file.Add(new XElement(map.Name.Namespace + "Block", new XAttribute("Hash",
                    Convert.ToBase64String(System.Security.Cryptography.SHA256.HashData(
                        content.AsSpan(i, Math.Min(PackageArchive.BlockSize, content.Length - i)))))));
            }
            entry.Delete();
            using var to = zip.CreateEntry("AppxBlockMap.xml").Open();
            map.Save(to);
        }
    }

    [Fact]
    public void What_an_account_was_to_lose_at_its_next_sign_in_it_keeps()
    {
        string mark = $@"{Places.EndOfLife}\{Demo.Sid("ivy")}";
        _bench.Remove("Weather", "ivy");
        var package = _bench.Read().Packages.Single(p => p.FullName.Name == "Northlight.Weather");
        HiveEdit.Change(_bench.Software, hive =>
        {
            foreach (var part in package.Parts)
                hive.Create($@"{mark}\{part.FullName}");
            hive.Create($@"{mark}\Somebody.Else_1.0.0.0_x64__8pewgm0k42rsa");
        });
        _bench.BringBack("Weather", "ivy").Failures.ShouldBeEmpty();
        HiveEdit.Read(_bench.Software, hive => hive.Find(mark)!.Value.Children().Select(k => k.Name).ToList())
            .ShouldBe(["Somebody.Else_1.0.0.0_x64__8pewgm0k42rsa"]);
    }

    [Fact]
    public void Pins_of_new_accounts_come_along_once()
    {
        var whole = new Bench(Demo.CopyTo(_folder, "whole"), _folder["whole-vault"]);
        string other = Demo.CopyTo(_folder, "other");
        ImmutableArray<string> Pins(string root)
        {
            using var volume = WindowsVolume.Open(root, new WriteInterceptor());
            return [.. DefaultLists.Open(volume, Places.Pins)!.Entries.Select(e => e.Text).Order(StringComparer.Ordinal)];
        }
        var before = Pins(whole.Root);
        var pinned = new Bench(other, _folder["none"]).Read().Packages.First(p => p.Newcomers
            && p.FamilyTraces.Any(t => t.Kind == TraceKind.StartPin && t.Location is EntryLocation e && e.File == Places.Pins));
        whole.Remove(pinned.DisplayName, "everyone");
        Pins(whole.Root).Length.ShouldBeLessThan(before.Length);
        whole.BringBack(pinned.DisplayName, "everyone", other).Failures.ShouldBeEmpty();
        Pins(whole.Root).ShouldBe(before);
        // Where the pin is there already it is not set twice.
        whole.Remove(pinned.DisplayName, "newcomers");
        whole.Undo(whole.Points()[^1].Point.Number);
        whole.Remove(pinned.DisplayName, "ivy");
        whole.BringBack(pinned.DisplayName, "ivy,newcomers", other).Failures.ShouldBeEmpty();
        Pins(whole.Root).ShouldBe(before);
    }

    [Fact]
    public void Entries_name_the_manifest_of_a_package_of_a_bundle_and_of_a_part_of_the_system()
    {
        var snapshot = _bench.Read();
        using var volume = WindowsVolume.Open(_bench.Root, new WriteInterceptor());
        using var facts = new BringBackFacts(volume, snapshot, [], () => []);
        var plain = Offered("Tern.Chess", "1.0.0.0");
        PackageFullName.TryParse("Tern.Chess_1.0.0.0_neutral_~_8pewgm0k42rsa", out var bundle).ShouldBeTrue();
        string[] Manifests(OfferedPackage package)
        {
            var entries = new BringBackEntries(facts, snapshot, DateTimeOffset.UnixEpoch);
            entries.Add(package, TraceScope.Machine, PlaceContainer.Software);
            return [.. entries.Changes.OfType<KeyAdded>().SelectMany(k => k.Recorded!.Values).Where(v => v.Name == "Path")
                .Select(v => v.AsString()!).Distinct()];
        }
        Manifests(plain).ShouldContain($@"C:\Program Files\WindowsApps\{plain.Main}");
        Manifests(plain with { Registered = bundle!, Parts = [bundle!, plain.Main] }).ShouldContain(
            $@"C:\Program Files\WindowsApps\{bundle}");
        Manifests(plain with { IsComponent = true }).ShouldBe([$@"C:\Windows\SystemApps\{plain.Main.Family}"]);
        var provisioned = new BringBackEntries(facts, snapshot, DateTimeOffset.UnixEpoch);
        provisioned.Provision(plain with { Registered = bundle!, Parts = [bundle!, plain.Main] }, [], facts.Own);
        provisioned.Changes.OfType<KeyAdded>().SelectMany(k => k.Recorded!.Values).Select(v => v.AsString())
            .ShouldContain($@"C:\Program Files\WindowsApps\{bundle}\AppxMetadata\AppxBundleManifest.xml");
    }

    [Fact]
    public void Frameworks_stand_in_the_entries_of_the_packages_that_need_them_and_nowhere_by_themselves()
    {
        var snapshot = _bench.Read();
        using var volume = WindowsVolume.Open(_bench.Root, new WriteInterceptor());
        using var facts = new BringBackFacts(volume, snapshot, [], () => []);
        var app = Offered("Tern.Chess", "1.0.0.0");
        var framework = Offered("Tern.Runtime", "2.0.0.0") with { Role = PackageRole.Framework };
        string sid = snapshot.Accounts[0].Sid;
        var entries = new BringBackEntries(facts, snapshot, DateTimeOffset.UnixEpoch);
        entries.Provision(app, [framework], facts.Own);
        entries.Register(app, [framework], sid);
        foreach (string key in new[] { $@"{Places.Provisioned}\{app.Main}", $@"{Places.Store}\{sid}\{app.Main}" })
        {
            var below = entries.Changes.OfType<KeyAdded>().Single(k => k.Key == key).Recorded!.Keys.ShouldHaveSingleItem();
            below.Name.ShouldBe(framework.Main.ToString());
            below.Values.ShouldHaveSingleItem().AsString().ShouldBe($@"C:\Program Files\WindowsApps\{framework.Main}\AppxManifest.xml");
        }
        entries = new BringBackEntries(facts, snapshot, DateTimeOffset.UnixEpoch);
        entries.Register(framework, [], sid);
        entries.Changes.OfType<KeyAdded>().ShouldNotContain(k => k.Hive == Places.Software);
    }

    [Fact]
    public void An_account_without_a_classes_hive_is_said_to_be_registered_there_by_Windows()
    {
        var snapshot = _bench.Read();
        using var volume = WindowsVolume.Open(_bench.Root, new WriteInterceptor());
        using var facts = new BringBackFacts(volume, snapshot, [], () => []);
        var entries = new BringBackEntries(facts, snapshot, DateTimeOffset.UnixEpoch);
        entries.Register(Offered("Tern.Chess", "1.0.0.0"), [], "S-1-5-21-1-2-3-9999");
        entries.Notes.ShouldHaveSingleItem().ShouldContain("has no classes hive");
        entries = new BringBackEntries(facts, snapshot, DateTimeOffset.UnixEpoch);
        entries.Register(Offered("Tern.Chess", "1.0.0.0"), [], snapshot.Accounts[0].Sid);
        entries.Notes.ShouldBeEmpty();
    }

    [Fact]
    public void Newcomers_get_what_they_do_not_get_yet_and_only_if_it_is_for_them()
    {
        var snapshot = _bench.Read();
        var weather = snapshot.Packages.Single(p => p.DisplayName == "Weather");
        weather.Newcomers.ShouldBeTrue();
        Plan("Weather").Packages.ShouldBeEmpty();
        var place = new Place("chess.msix", Offered("Tern.Chess", "1.0.0.0"));
        Plan("Tern.Chess", place).Packages.Single().Newcomers.ShouldBeTrue();
        Plan(new Audience([snapshot.Accounts[0].Sid], false), "Tern.Chess", [place], []).Packages.Single().Newcomers.ShouldBeFalse();
    }

    [Fact]
    public void A_block_is_lifted_for_newcomers_and_mentioned_otherwise()
    {
        var game = Offered("Tern.Chess", "1.0.0.0");
        HiveEdit.Change(_bench.Software, h => h.Create($@"{HiveEdit.Store}\Deprovisioned\{game.Main.Family}"));
        var place = new Place("chess.msix", game);
        var lifted = Plan("Tern.Chess", place);
        lifted.Changes[0].ShouldBeOfType<KeyRemoved>().Key.ShouldBe($@"{Places.Blocks}\{game.Main.Family}");
        lifted.Notes.ShouldNotContain(n => n.Contains("blocked", StringComparison.Ordinal));
        var stays = Plan(new Audience([_bench.Read().Accounts[0].Sid], false), "Tern.Chess", [place], []);
        stays.Changes.OfType<KeyRemoved>().ShouldBeEmpty();
        stays.Notes.ShouldContain("Tern.Chess stays blocked for new accounts; --for newcomers, or 'block --lift', lifts that.");
    }

    public void Dispose() => _folder.Dispose();
}
