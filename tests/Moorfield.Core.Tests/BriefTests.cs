using System.Security.Cryptography;
using System.Text;
using CsCheck;
using Moorfield.Core.Assessment;
using Moorfield.Core.Model;
using Moorfield.Core.Planning;
using Moorfield.Core.Selection;
using Moorfield.Core.Storage;
using Moorfield.Formats.Hives;
using Moorfield.StandIn;
using Moorfield.Tests;

namespace Moorfield.Core.Tests;

public sealed class BriefTests : IDisposable
{
    private readonly TemporaryFolder _folder = new(inMemory: true);
    private Bench? _made;

    private Bench Volume => _made ??= new Bench(_folder);

    private string Write(string text, string name = "test.brief.yaml") => _folder.Write(name, Encoding.UTF8.GetBytes(text));

    private static Brief Load(string file, string? sha256 = null) =>
    new BriefLoader(a => throw new InvalidOperationException($"fetches {a}")).Load(file, sha256);

    private Brief Brief(string text) => Load(Write("brief: 1\n" + text));

    private IEnumerable<string> Going(string text) => BriefSelection.Of(Brief(text), Bench.Demonstration).Going.Select(c => c.Package.DisplayName)
        .Distinct();

    private Plan Plan(Brief brief, string who = "everyone")
    {
        using var target = Volume.Open();
        var snapshot = target.Read([null], brief.Guards)[0];
        return RemovalPlanner.Plan(snapshot, BriefPlanner.ToRequest(brief, snapshot, [who]));
    }

    [Theory]
    [InlineData("remove: [Weather]", "Weather")]
    [InlineData("remove:\n  - package: [Weather, 'Whist*']", "Weather,Whist Evening")]
    [InlineData("remove:\n  - publisher: Gannet and Rowe", "Tide Tables")]
    [InlineData("remove:\n  - publisher: Pennywhistle*\n    smaller-than: 2 MB", "Jukebox,Patience,Whist Evening")]
    [InlineData("remove:\n  - origin: maker\n    starts-with-windows: true", "Battery Keeper,Welcome to Kestrelworks")]
    [InlineData("remove:\n  - role: addon", "Picture Viewer Filters")]
    [InlineData("remove:\n  - role: framework\n    find: table", "Card Table Engine")]
    [InlineData("remove:\n  - find: [harbour, berths]", "Saltmarsh Timetable,Tide Tables")]
    [InlineData("remove:\n  - package: '*'\n    larger-than: 300 KB\n    smaller-than: 400 KB", "Mail and Diary")]
    [InlineData("remove: [Assistant]", "Assistant")]
    [InlineData("remove: ['Northlight.As*']", "")]
    [InlineData("remove: ['Kestrelworks.*']\nkeep:\n  - starts-with-windows: true", "Battery Keeper,Sound Panel")]
    [InlineData("remove: [Nothing.Here]", "")]
    public void A_rule_takes_what_fits_all_its_conditions(string text, string names) =>
        Going(text).Order(StringComparer.Ordinal).ShouldBe(names.Split(',', StringSplitOptions.RemoveEmptyEntries));

    /// <summary>Apps that somebody has and that no rule names; what goes along with another app is not among them.</summary>
    [Fact]
    public void What_no_rule_names_is_told_unless_the_brief_keeps_it()
    {
        string[] Unlisted(string text) => [.. BriefSelection.Of(Brief(text), Bench.Demonstration).Unlisted.Select(p => p.DisplayName)
            .Order(StringComparer.Ordinal)];
        string[] all = Unlisted("remove: [Nothing.Here]");
        all.ShouldBe(Bench.Demonstration.Packages.Where(p => p.IsHeld && p.Role is PackageRole.Application or PackageRole.Addon)
            .Where(p => p.IsHeld).DistinctBy(p => p.Family).Select(p => p.DisplayName).Order(StringComparer.Ordinal));
        all.ShouldContain("Picture Viewer Filters");
        Unlisted("remove: [Nothing.Here]\nunlisted: tell").ShouldBe(all);
        Unlisted("remove: [Nothing.Here]\nunlisted: keep").ShouldBeEmpty();
        string clock = Demo.World.Family("Northlight.Clock");
        Unlisted($"remove: [Weather]\nkeep: [Films]\nblock: [{clock}]").ShouldBe(all.Except(["Weather", "Films", "Clock"]));
        Unlisted("remove: [Northlight.Pictures]").ShouldBe(all.Except(["Picture Viewer", "Picture Viewer Filters"]));
        Unlisted("keep: [Northlight.Pictures]").ShouldBe(all.Except(["Picture Viewer"]));
        // What is spared because it was installed later is not named by a rule that takes all.
        Unlisted("remove: ['*']").ShouldBe(Bench.Demonstration.Packages.Where(p => p.Origin == PackageOrigin.Added && p.IsHeld
            && p.Role is PackageRole.Application && !Bench.Demonstration.Packages.Any(o => o.Family == p.Family && o.Origin != p.Origin))
                .Select(p => p.DisplayName).Distinct().Order(StringComparer.Ordinal));
        Write("brief: 1\nunlisted: keep", "below.yaml");
        Brief("include: [below.yaml]").Unlisted.ShouldBe(UnlistedPackages.Keep);
        Brief("include: [below.yaml]\nunlisted: tell").Unlisted.ShouldBe(UnlistedPackages.Tell);
        Should.Throw<MoorfieldException>(() => Brief("unlisted: remove")).Message.ShouldContain(":2:11: 'remove' is not one of tell, keep");
    }

    [Theory]
    [InlineData("", "test.brief.yaml is empty")]
    [InlineData("title: x", ":1:1: a brief begins with 'brief: 1'")]
    [InlineData("brief: 2", ":1:8: a brief begins with 'brief: 1'")]
    [InlineData("brief: 1\nremov: []", ":2:1: unknown key 'remov' in a brief. The nearest known one is 'remove'")]
    [InlineData("brief: 1\nremove:\n  - pakage: x", ":3:5: unknown key 'pakage' in a rule. The nearest known one is 'package'")]
    [InlineData("brief: 1\nkeep:\n  - start-with-windows: true", "The nearest known one is 'starts-with-windows'")]
    [InlineData("brief: 1\nremove:\n  - because: x", ":3:5: a rule without a condition would take everything")]
    [InlineData("brief: 1\nremove: x", ":2:9: remove has to be a list")]
    [InlineData("brief: 1\nremove:\n  - origin: mine", ":3:13: 'mine' is not one of system, shipped, maker, extra, added")]
    [InlineData("brief: 1\nremove:\n  - larger-than: many", ":3:18: 'many' is not a size")]
    [InlineData("brief: 1\nremove:\n  - starts-with-windows: maybe", "is neither true nor false")]
    [InlineData("brief: 1\nblock: [Weather]", ":2:9: 'Weather' is not a family name")]
    [InlineData("brief: 1\nguard:\n  - hive: machine", ":3:5: a guard needs key")]
    [InlineData("brief: 1\nguard:\n  - {hive: machine, key: A, name: B, type: dword, data: -1}", "'-1' is not a number from 0 to 4294967295")]
    [InlineData("brief: 1\nguard:\n  - {hive: machine, key: 'A\\\\B', name: B, type: dword, data: 1}", "a key is a path of names")]
    [InlineData("brief: 1\nguard:\n  - {hive: machine, key: A, name: B, type: word, data: 1}", "the type 'word' is not one of dword")]
    [InlineData("brief: 1\nbrief: 1", ":2:1: ")]
    [InlineData("brief: 1\nremove:\n\t- x", ":3:1: a tab indents this line")]
    [InlineData("brief: 1\nremove:\n  - package: x\n  \tbecause: y", ":4:3: a tab indents this line")]
    [InlineData("brief: 1\nremove: [a", "this is not YAML")]
    [InlineData("brief: 1\na: &a [x, x]\nb: [*a, *a]", ":2:4: anchors (&), aliases (*) and tags (!) are not allowed")]
    [InlineData("brief: 1\ntitle: !!python/object x", ":2:8: anchors (&), aliases (*) and tags (!) are not allowed")]
    [InlineData("brief: 1\n---\nbrief: 1", "a second document begins")]
    [InlineData("brief: 1\ntitle: [[[[[[[[[[[[[[[[[[[[[x]]]]]]]]]]]]]]]]]]]]]", "nested deeper than")]
    [InlineData("brief: 1\ninclude:\n  - url: https://a.example/b", ":3:5: an include from an address needs url and sha256")]
    [InlineData("brief: 1\ninclude:\n  - {url: 'https://a.example/b', sha256: abc}", "sha256 has to be 64 hexadecimal digits")]
    [InlineData("brief: 1\ninclude:\n  - {url: 'https://a.example/b', sha256: "
        + "abcdefghabcdefghabcdefghabcdefghabcdefghabcdefghabcdefghabcdefgh}", "sha256 has to be 64 hexadecimal digits")]
    [InlineData("brief: 1\ninclude: ['https://a.example/b']", "is included with url and sha256")]
    [InlineData("brief: 1\ninclude: ['../other.yaml']", "is not a file in the folder of this brief")]
    [InlineData("brief: 1\ninclude: ['/etc/passwd']", "is not a file in the folder of this brief")]
    [InlineData("brief: 1\ninclude: [missing.yaml]", "There is no brief missing.yaml")]
    [InlineData("brief: 1\ninclude: [test.brief.yaml]", "test.brief.yaml includes itself")]
    [InlineData("- x", "a brief has to be a list of keys")]
    [InlineData("brief: 1\n? [a]\n: b", "a key has to be a text")]
    [InlineData("brief: 1\ntitle: 'never ends", "this is not YAML")]
    public void A_bad_brief_is_refused_with_its_place(string text, string message)
    {
        var error = Should.Throw<MoorfieldException>(() => Load(Write(text)));
        error.Message.ShouldContain(message);
        error.Kind.ShouldBe(ErrorKind.InvalidUsage);
        error.Message.Split('\n').Length.ShouldBe(1);
    }

    [Theory]
    [InlineData("brief: 1", true)]
    [InlineData("brief: 1\nfor: [ivy, rowan]\ninclude: [x.yaml, {url: 'https://a.example/b', sha256: "
        + "00000000000000000000000000000000000000000000000000000000000000aa}]", true)]
    [InlineData("brief: 1\nremove: [Weather, {package: [a, b], origin: maker, role: [addon], larger-than: 1.5 MB, starts-with-windows: true, "
        + "because: x}]\nblock: [Northlight.Weather_8pewgm0k42rsa]", true)]
    [InlineData("brief: 1\nguard: [{hive: account, key: A, name: B, type: texts, data: [x, y]}]\nnotes: {A: b}\nneeds: {A: [b, c], D: e}", true)]
    [InlineData("brief: 1\nguard: [offered-apps, maker-apps]", true)]
    [InlineData("brief: 1\nguard: [{removal-by-policy: Northlight.Weather_8pewgm0k42rsa}]", true)]
    [InlineData("brief: 1\nguard: [{removal-by-policy: [Weather]}]", false)]
    [InlineData("brief: 1\nguard: [{hive: machine, key: A, absent: B}]", false)]
    [InlineData("brief: 1\nguard: [offered-aps]", false)]
    [InlineData("brief: 1\nremov: []", false)]
    [InlineData("brief: 1\nremove: [{because: x}]", false)]
    [InlineData("brief: 1\nremove: [{pakage: x}]", false)]
    [InlineData("brief: 1\nremove: [{larger-than: many}]", false)]
    [InlineData("brief: 1\nblock: [Weather]", false)]
    [InlineData("brief: 1\nguard: [{hive: machine, key: A}]", false)]
    [InlineData("title: x", false)]
    public void The_schema_for_editors_says_what_the_reader_says(string text, bool good)
    {
        string file = Write(text);
        // Not every include can be followed here, so the reader alone is asked.
        if (good)
            new BriefReader(file).Read(text);
        else
            Should.Throw<MoorfieldException>(() => { new BriefReader(file).Read(text); });
        YamlSchema.Allows("brief.schema.json", text).ShouldBe(good);
    }

    [Fact]
    public void The_schema_knows_every_guard() =>
        KnownGuards.All.Where(g => !YamlSchema.Allows("brief.schema.json", $"brief: 1\nguard: [{g.Name}]")).Select(g => g.Name).ShouldBeEmpty();

    [Theory]
    [InlineData("keep: [Northlight.Weather_8pewgm0k42rsa]")]
    [InlineData("keep: [Weather]")]
    [InlineData("keep: [{find: weather}]")]
    public void What_is_kept_is_neither_removed_nor_blocked(string keep)
    {
        var request = BriefPlanner.ToRequest(Brief($"for: everyone\nremove: [Weather, Clock]\n{keep}\n"
            + "block: [Northlight.Weather_8pewgm0k42rsa, Northlight.Maps_8pewgm0k42rsa]\n"), Bench.Demonstration, []);
        request.Packages.Select(p => p.Package.DisplayName).ShouldBe(["Clock"]);
        request.Blocks.Select(b => b.Name).ShouldContain("Northlight.Maps");
        request.Blocks.Select(b => b.Name).ShouldNotContain("Northlight.Weather");
        var plan = RemovalPlanner.Plan(Bench.Demonstration, request);
        plan.Changes.OfType<KeyAdded>().Select(c => c.KeyName).ShouldNotContain("Northlight.Weather_8pewgm0k42rsa");
        BriefSelection.Unwanted(Brief($"for: everyone\nremove: [Weather]\n{keep}\nblock: [Northlight.Weather_8pewgm0k42rsa]\n"),
            [Bench.Demonstration]).Blocked.ShouldBeEmpty();
    }

    [Fact]
    public void The_briefs_of_the_demo_fit_the_schema()
    {
        foreach (string file in World.WriteBriefs(_folder.Path))
            YamlSchema.Allows("brief.schema.json", File.ReadAllText(file)).ShouldBeTrue(file);
    }

    [Fact]
    public void A_brief_that_is_too_long_is_refused()
    {
        Should.Throw<MoorfieldException>(() => Load(Write("brief: 1\n" + new string('#', 10_000_000)))).Message.ShouldContain("more than the");
        Should.Throw<MoorfieldException>(() => Load(Write("brief: 1\n" + new string('#', 2_000_000)))).Message.ShouldContain("more than the");
        Should.Throw<MoorfieldException>(() => Load(_folder.Write("x", [0x62, 0xFF]))).Message.ShouldContain("is not a text in UTF-8");
    }

    [Fact]
    public void A_circle_of_includes_is_told_and_many_are_refused()
    {
        Write("brief: 1\ninclude: [b.yaml]", "a.yaml");
        Write("brief: 1\ninclude: [a.yaml]", "b.yaml");
        Should.Throw<MoorfieldException>(() => Load(_folder["a.yaml"])).Message.ShouldContain("a.yaml includes itself, by way of a.yaml, b.yaml");
        for (int i = 0; i < 8; i++)
            Write($"brief: 1\ninclude: [c{i + 1}.yaml, c{i + 1}.yaml]", $"c{i}.yaml");
        Write("brief: 1", "c8.yaml");
        Should.Throw<MoorfieldException>(() => Load(_folder["c0.yaml"])).Message.ShouldContain("one brief too many");
        // The brief itself, and 64 that it includes.
        Write($"brief: 1\ninclude: [{string.Join(", ", Enumerable.Repeat("c8.yaml", 64))}]", "most.yaml");
        Load(_folder["most.yaml"]).Remove.ShouldBeEmpty();
        Write($"brief: 1\ninclude: [{string.Join(", ", Enumerable.Repeat("c8.yaml", 65))}]", "most.yaml");
        Should.Throw<MoorfieldException>(() => Load(_folder["most.yaml"])).Message.ShouldContain("one brief too many");
    }

    [Fact]
    public void A_mark_of_UTF_8_counts_only_at_the_beginning()
    {
        Load(_folder.Write("marked.yaml", [0xEF, 0xBB, 0xBF, .. "brief: 1\ntitle: Marked"u8])).Title.ShouldBe("Marked");
        Load(_folder.Write("marked.yaml", [.. "brief: 1\ntitle: Marked # "u8, 0xEF, 0xBB, 0xBF])).Title.ShouldBe("Marked");
    }

    [Fact]
    public void Numbers_of_guards_are_decimal_or_hexadecimal_up_to_the_most_that_their_type_holds()
    {
        HiveValue Value(string type, string data) =>
            Brief($"guard:\n  - {{hive: machine, key: A, name: B, type: {type}, data: {data}}}").Guards.Single().Value;
        Value("dword", "4294967295").ShouldBe(HiveValue.FromDWord("B", uint.MaxValue));
        Value("dword", "10").ShouldBe(HiveValue.FromDWord("B", 10));
        Value("dword", "0x10").ShouldBe(HiveValue.FromDWord("B", 16));
        Value("qword", "18446744073709551615").ShouldBe(HiveValue.FromQWord("B", ulong.MaxValue));
        foreach (string wrong in new[] { "4294967296", "1f", "0x1FFFFFFFF", "'1 '", "''" })
            Should.Throw<MoorfieldException>(() => Value("dword", wrong)).Message.ShouldContain("is not a number from 0 to 4294967295");
        // With its end, as many bytes as a value may have.
        int most = (HiveValue.MaxWritableLength / 2) - 1;
        Value("text", new string('a', most)).Data.Length.ShouldBe(HiveValue.MaxWritableLength);
        string longer = Should.Throw<MoorfieldException>(() => Value("text", new string('a', most + 1))).Message;
        longer.ShouldContain("the data is longer than 16,344 bytes");
    }

    [Fact]
    public void Sixteen_levels_are_read_as_lists_and_as_keys()
    {
        static string Refused(string text) => Should.Throw<MoorfieldException>(() => YamlNode.Read("x", text)).Message;
        YamlNode.Read("x", new string('[', 16) + "a" + new string(']', 16)).ShouldNotBeNull();
        Refused(new string('[', 17) + "a" + new string(']', 17)).ShouldBe("x:1:18: nested deeper than 16 levels.");
        YamlNode.Read("x", string.Concat(Enumerable.Repeat("{a: ", 16)) + "b" + new string('}', 16)).ShouldNotBeNull();
        Refused(string.Concat(Enumerable.Repeat("{a: ", 17)) + "b" + new string('}', 17)).ShouldContain("nested deeper than 16 levels.");
        Refused("{? {? {? {? {? {? {? {? {? {? {? {? {? {? {? {? {? a}}}}}}}}}}}}}}}}}").ShouldContain("nested deeper than 16 levels.");
        Refused("\ta: b").ShouldBe("x:1:1: a tab indents this line; YAML wants spaces.");
        Refused("&a b").ShouldContain("anchors (&)");
        Refused("!a b").ShouldContain("tags (!)");
        YamlNode.Read("x", "").ShouldBeNull();
    }

    [Fact]
    public void What_is_included_counts_as_if_it_were_written_here()
    {
        Write("brief: 1\ntitle: inner\nfor: ivy\nkeep: [Patience]\nblock: [A.Bc_8pewgm0k42rsa]\nnotes: {Weather: look}\nneeds: {Patience: Weather}",
        "inner.yaml");
        var brief = Brief("title: outer\ninclude: [inner.yaml]\nremove: ['Pennywhistle.*']");
        (brief.Title, brief.For.Single(), brief.Block.Single().Name).ShouldBe(("outer", "ivy", "A.Bc"));
        brief.Advice.Notes.ShouldHaveSingleItem();
        BriefSelection.Of(brief, Bench.Demonstration).Going.ShouldNotContain(c => c.Package.DisplayName == "Patience");
        Brief("include: [inner.yaml]").Title.ShouldBe("inner");
    }

    [Fact]
    public void A_digest_pins_a_brief()
    {
        string file = Write("brief: 1");
        Load(file, Convert.ToHexString(SHA256.HashData(File.ReadAllBytes(file)))).Remove.ShouldBeEmpty();
        Should.Throw<MoorfieldException>(() => Load(file, new string('0', 64))).Kind.ShouldBe(ErrorKind.Refused);
    }

    [Fact]
    public void Keep_always_wins()
    {
        var snapshot = Bench.Demonstration;
        string[] conditions = ["package: '*'", "package: 'Northlight.*'", "package: Weather", "publisher: '*e*'", "origin: shipped",
            "origin: [maker, extra]", "role: addon", "role: [framework, application]",
            "find: e", "larger-than: 100 KB", "smaller-than: 150 KB", "starts-with-windows: true", "starts-with-windows: false",
            "package: Picture Viewer Filters", "package: Assistant"];
        var rules = Gen.OneOf(conditions.Select(Gen.Const).ToArray()).Array[1, 3]
            .Select(c => string.Concat(c.DistinctBy(x => x.Split(':')[0]).Select((x, i) => $"\n  {(i == 0 ? "-" : " ")} {x}")));
        Gen.Select(rules.Array[1, 4], rules.Array[0, 3], Gen.Bool, Gen.OneOf(Gen.Const("everyone"), Gen.Const("ivy"), Gen.Const("newcomers")))
            .Sample((remove, keep, sweep, who) =>
        {
            var brief = Brief($"remove:{string.Concat(remove)}\nkeep:{(keep.Length == 0 ? " []" : string.Concat(keep))}");
            var choice = BriefSelection.Of(brief, snapshot);
            var keepers = BriefSelection.Of(brief with { Remove = brief.Keep, Keep = [] }, snapshot).Going.Select(c => c.Package.FullName)
                .ToHashSet();
            var plan = RemovalPlanner.Plan(snapshot,
                new RemovalRequest(choice.Going, AudienceParser.Parse([who], snapshot)) { Kept = choice.Kept, Sweep = sweep });
            plan.Removals.ShouldAllBe(r => !keepers.Contains(r.Package.FullName));
        }, iter: 60, threads: 1);
    }

    [Fact]
    public void No_plan_leaves_a_staying_package_without_its_framework()
    {
        var snapshot = Bench.Demonstration;
        Gen.Select(Gen.Int[0, snapshot.Packages.Length - 1].Array[1, 20],
            Gen.OneOf(Gen.Const("everyone"), Gen.Const("accounts"), Gen.Const("ivy"), Gen.Const("newcomers")), Gen.Bool).Sample((picks, who, sweep) =>
        {
            var chosen = picks.Distinct().Select(i => new SelectedPackage(snapshot.Packages[i], i % 2 == 0));
            var plan = RemovalPlanner.Plan(snapshot, new RemovalRequest([.. chosen], AudienceParser.Parse([who], snapshot), Sweep: sweep));
            var gone = plan.Removals.Where(r => r.RemovesFiles).Select(r => r.Package.FullName).ToHashSet();
            var leaving = plan.Removals.ToDictionary(r => r.Package.FullName);
            foreach (var package in snapshot.Packages.Where(p => p.IsHeld
                && (!leaving.TryGetValue(p.FullName, out var r) || !r.KeptForAccounts.IsEmpty || r.KeptForNewcomers)))
                package.Needs.Where(n => snapshot.Package(n)!.Role == PackageRole.Framework).ShouldAllBe(n => !gone.Contains(n), package.DisplayName);
        }, iter: 100, threads: 1);
    }

    [Fact]
    public void One_after_the_other_is_the_same_as_both_at_once_where_they_do_not_touch()
    {
        string[] apart = ["Weather", "Picture Viewer", "Mail*", "Tide Tables", "Battery Keeper", "Notes", "Assistant", "Jukebox"];
        Gen.Select(Gen.Shuffle(apart), Gen.Int[1, 3], Gen.OneOf(Gen.Const("everyone"), Gen.Const("ivy"), Gen.Const("newcomers")))
            .Sample((names, split, who) =>
        {
            using var folder = new TemporaryFolder(inMemory: true);
            var bench = new Bench(folder);
            string first = string.Join(',', names[..split]);
            string second = string.Join(',', names[split..(split + 2)]);
            var both = bench.Plan($"{first},{second}", who).Changes.Select(c => c.Describe()).ToHashSet();
            var plan = bench.Plan(first, who);
            bench.Run(plan, new WriteInterceptor());
            plan.Changes.Concat(bench.Plan(second, who).Changes).Select(c => c.Describe()).ShouldBe(both, ignoreOrder: true);
        }, iter: 4, threads: 1);
    }

    [Fact]
    public void The_plan_of_a_brief_blocks_and_guards_and_afterwards_nothing_differs()
    {
        foreach (string file in World.WriteBriefs(_folder.Path))
            File.Exists(file).ShouldBeTrue();
        var brief = Load(_folder["counters.brief.yaml"]);
        var plan = Plan(brief);
        BriefPlanner.Differences(plan, Volume.Read(), _ => false, _ => false).Select(d => d.Code).Distinct()
            .ShouldBe(["isNew", "notBlocked", "guardNotSet"]);
        BriefPlanner.Differences(plan, Volume.Read(), f => f.StartsWith("Northlight.Weather", StringComparison.Ordinal), _ => false)
            .Where(d => d.Code == "cameBack").ShouldHaveSingleItem().DisplayName.ShouldBe("Weather");
        Volume.Run(plan, new WriteInterceptor()).Failures.ShouldBeEmpty();
        Plan(brief).Changes.ShouldBeEmpty();
        BriefPlanner.Differences(Plan(brief), Volume.Read(), _ => true, _ => false).ShouldBeEmpty();
        Volume.Read().Blocks.Select(b => b.Name).ShouldContain("Saltmarsh.Lottery");
        Tool.Read("hivexregedit", "--export", Volume.Software, @"\Policies\Northlight\Assistant")
            .ShouldContain("\"TurnOffAssistant\"=dword:00000001");
        // Something else sets the guard to another value, and takes a block away.
        HiveEdit.Change(Volume.Software, h =>
        {
            h.Find(@"Policies\Northlight\Assistant")!.Value.Set(Formats.Hives.HiveValue.FromString("TurnOffAssistant", "1"));
            h.Find($@"{HiveEdit.Store}\Deprovisioned\Saltmarsh.Lottery_5s2ajr5e6xvkm")!.Value.Delete();
        });
        BriefPlanner.Differences(Plan(brief), Volume.Read(), _ => true, _ => false).Select(d => d.Code).ShouldBe(["notBlocked", "guardNotSet"]);
    }

    [Fact]
    public void Guards_of_accounts_are_set_in_each_hive_of_whom_it_is_for()
    {
        var brief = Brief("guard:\n  - {hive: account, key: 'Software\\Northlight\\Suggestions', name: Off, type: dword, data: 0x1}");
        Plan(brief, "ivy").Changes.OfType<ValueChanged>().Select(c => c.Hive.ToString()).ShouldBe([@"Users\ivy\NTUSER.DAT"]);
        Plan(brief).Changes.OfType<ValueChanged>().Select(c => c.Hive.ToString()).ShouldContain(@"Users\Default\NTUSER.DAT");
        Plan(brief).Changes.Length.ShouldBe(4);
    }

    [Fact]
    public void A_draft_names_everything_as_kept_and_can_be_read_back()
    {
        var snapshot = Bench.Demonstration;
        string text = BriefDraft.Write("All of \"it\": 100 %", [snapshot]);
        text.Split('\n').ShouldContain(l => l.StartsWith("  - package: Northlight.Pictures_8pewgm0k42rsa", StringComparison.Ordinal)
            && l.EndsWith("costly: opens pictures", StringComparison.Ordinal));
        text.Split('\n')[..9].ShouldBe(["# A brief for moorfield. docs/briefs.md says what it may hold.", "brief: 1", "title: 'All of \"it\": 100 %'",
            "for: everyone", "",
            "# Move a line from keep to remove to have that package removed. What is kept is never removed, whatever a rule says.",
            "remove: []", "", "keep:"]);
        text.Split('\n').Where(l => l.StartsWith("  # ", StringComparison.Ordinal))
            .ShouldBe(["  # application", "  # framework", "  # addon", "  # component"]);
        // Of several costs the gravest, which comes first.
        var assessment = new RemovalAssessment(snapshot);
        var (costly, costs) = snapshot.Packages.Select(p => (Package: p, Costs: assessment.Of(p).Costs.ToList())).First(p => p.Costs.Count > 1);
        text.Split('\n').First(l => l.Contains(costly.Family.ToString(), StringComparison.Ordinal)).ShouldEndWith($": {costs[0].Short}");
        var brief = Load(Write(text));
        brief.Title.ShouldBe("All of \"it\": 100 %");
        brief.Keep.SelectMany(r => r.Families).ShouldBe(snapshot.Packages.Select(p => p.Family).Distinct(), ignoreOrder: true);
        BriefSelection.Of(brief with { Remove = Brief("remove: ['*']").Remove }, snapshot).Going.ShouldBeEmpty();
    }

    [Fact]
    public void Names_in_a_draft_cannot_break_out_of_their_comment()
    {
        var evil = Demo.World with { Packages = [.. Demo.World.Packages.Select(p => p.Name == "Northlight.Clock"
        ? p with { Display = "Clock\nremove: ['*']\u2028x" } : p)] };
        using var folder = new TemporaryFolder(inMemory: true);
        var snapshot = new Bench(Demo.BuildIn(folder, evil), folder["vault"]).Read();
        Load(Write(BriefDraft.Write("x\ny: 'z'", [snapshot]))).Remove.ShouldBeEmpty();
    }

    [Fact]
    public void A_name_that_several_families_have_is_an_error_that_gives_the_line()
    {
        var twins = Demo.World with { Packages = [.. Demo.World.Packages.Select(p => p.Name == "Northlight.Clock" ? p with { Display = "Weather" }
        : p)] };
        using var folder = new TemporaryFolder(inMemory: true);
        var snapshot = new Bench(Demo.BuildIn(folder, twins), folder["vault"]).Read();
        Should.Throw<MoorfieldException>(() =>
            BriefSelection.Of(Brief("remove: [Weather]"), snapshot)).Message.ShouldContain("test.brief.yaml:2: 'Weather' fits 2 packages");
    }

    public void Dispose() => _folder.Dispose();
}
