using System.Collections.Immutable;
using System.Text.RegularExpressions;
using Moorfield.Core.Layout;
using Moorfield.Core.Model;
using Moorfield.Core.Operations;
using Moorfield.Core.Planning;
using Moorfield.Core.Storage;
using Moorfield.Formats.Appx;
using Moorfield.Formats.Hives;
using Moorfield.Tests;

namespace Moorfield.Core.Tests;

/// <summary>
/// The hives of a machine that ran Windows 8.1, on a made-up volume: what is read agrees with another program's listing, and after a removal no
/// key, name or text of the account's hives names what was removed.
/// </summary>
public sealed partial class GenuineHiveTests : IDisposable
{
    private readonly TemporaryFolder _folder = new(inMemory: true);
    private readonly Bench _bench;
    private readonly string _software, _classes, _own;

    public GenuineHiveTests()
    {
        string root = Directory.CreateDirectory(_folder["volume"]).FullName;
        _bench = new Bench(root, _folder["vault"]);
        _software = Put("dfwinreg/SOFTWARE", Places.Software);
        Put("dfwinreg/SYSTEM", Places.System);
        // Any account may be the one whose hives these are; one that has registrations with frameworks in them fits.
        string profile = HiveEdit.Read(_software, h => h.Find(Places.ProfileList)!.Value.Children().Where(k => Account.IsPerson(k.Name)).MaxBy(
            k => h.Find($@"{Places.Store}\{k.Name}")?.Children().Sum(p => p.Children().Count)).Value("ProfileImagePath")!.AsString()!);
        _classes = Put("dfwinreg/UsrClass.dat", Places.Classes(WindowsPath.Parse(profile)!.Value));
        _own = Put("dfwinreg/NTUSER.DAT", Places.UserHive(WindowsPath.Parse(profile)!.Value));
        foreach (string name in Registered())
            File.WriteAllText(Path.Combine(Directory.CreateDirectory(Full(PackageRoots.Usual.Packages / name)).FullName, "file.txt"), "made up");
    }

    private string Full(WindowsPath path) => Path.Combine([_bench.Root, .. path.Names]);

    private string Put(string genuine, WindowsPath path)
    {
        Directory.CreateDirectory(Path.GetDirectoryName(Full(path))!);
        File.Copy(Genuine.Path(genuine), Full(path));
        HiveEdit.MakeClean(Full(path));
        return Full(path);
    }

    /// <summary>Every line of a hive in another program's listing, without the times.</summary>
    private static List<string> Lines(string hive) =>
        [.. Tool.Run("reglookup", hive).Output.Split('\n').Select(l => Time().Replace(l, "")).Where(l => l.StartsWith('/'))];

    [GeneratedRegex(@",\d{4}-\d\d-\d\d \d\d:\d\d:\d\d$", RegexOptions.None, 10_000)]
    private static partial Regex Time();

    private List<string> Registered()
    {
        const string Packages = "/Local Settings/Software/Microsoft/Windows/CurrentVersion/AppModel/Repository/Packages/";
        return [.. Lines(_classes).Where(l => l.StartsWith(Packages, StringComparison.Ordinal)).Select(l => l[Packages.Length..].Split(',')[0])
            .Where(n => !n.Contains('/', StringComparison.Ordinal)).Distinct()];
    }

    private static bool Names(string line, IEnumerable<string> names) =>
        line.Split(',') is not [_, "BINARY" or "NONE", ..] && names.Any(n => line.Contains(n, StringComparison.OrdinalIgnoreCase));

    [Fact]
    public void The_account_has_what_another_program_lists()
    {
        var system = _bench.Read();
        var account = system.Accounts.Single(a => a.Profile is { } profile && Full(Places.Classes(profile)) == _classes);
        var parts = system.Packages.SelectMany(p => p.Parts).Where(p => p.Traces.Any(t => t.Sid == account.Sid
            && t.Location is KeyLocation { Parent: Places.AccountPackages })).Select(p => p.FullName.ToString());
        parts.ShouldBe(Registered(), ignoreOrder: true);
        // Frameworks have no entries of their own in the machine's hive; without manifests they are known by what the account's hive says.
        var frameworks = HiveEdit.Read(_classes, h => h.Find(Places.AccountPackages)!.Value.Children().Where(k => k.Value("Framework") is not null)
            .Select(k => k.Name).ToHashSet(StringComparer.OrdinalIgnoreCase));
        frameworks.ShouldNotBeEmpty();
        system.Notes.Where(n => n.Code == "registrationIncomplete" && !frameworks.Contains(n.Package!.ToString())).Select(n => n.Text)
            .ShouldBeEmpty();
        // What packages list as needed is needed, where no manifest says it.
        system.Packages.Count(p => p.Needs.Any(n => frameworks.Contains(n.ToString()))).ShouldBeGreaterThan(10);
    }

    [Fact]
    public void Nothing_names_what_was_removed_nothing_else_changes_and_undo_is_the_same_bytes()
    {
        var before = _bench.Read();
        var (classes, own) = (Lines(_classes), Lines(_own));
        var second = new[] { _classes, _own }.ToDictionary(h => h, Second);
        string files = VolumeState.Files(_bench.Root);
        _bench.Remove("*", "everyone", more: r => r with { Sweep = true }).Failures.ShouldBeEmpty();
        var stay = _bench.Read().Packages.Select(p => p.Family).ToHashSet();
        var gone = before.Packages.Select(p => p.Family).Where(f => !stay.Contains(f)).Distinct().ToList();
        gone.Count.ShouldBeGreaterThan(20);
        var names = gone.SelectMany(f => new[] { f.ToString(), AppContainer.Sid(f) })
            .Concat(before.Packages.Where(p => gone.Contains(p.Family)).SelectMany(p => p.Parts).Select(p => p.FullName.ToString())).ToList();
        foreach (var (hive, was) in new[] { (_classes, classes), (_own, own) })
        {
            was.Count(l => Names(l, names)).ShouldBeGreaterThan(50);
            var now = Lines(hive);
            now.Where(l => Names(l, names)).ShouldBeEmpty();
            now.Except(was).ShouldBeEmpty();
            // Another reader, which has nothing in common with that one, sees the same.
            var seen = Second(hive);
            seen.Where(e => Names(e.Replace('\n', ' ') + ",", names) && !e.Contains("Data:", StringComparison.Ordinal)).ShouldBeEmpty();
            seen.Except(second[hive]).ShouldBeEmpty();
            second[hive].Except(seen).Count(e => e.StartsWith("key ", StringComparison.Ordinal))
                .ShouldBe(was.Except(now).Count(l => l.Contains(",KEY,", StringComparison.Ordinal)));
            // What went named a package itself, or stood below what did, or was the key of a family.
            var traces = before.Packages.SelectMany(p => p.AllTraces).Where(t => Full(Hive(t.Location)) == hive).ToList();
            var owned = traces.Select(t => Key(t.Location)).Concat(traces.Where(PackagePlaces.AccountFamilies.Holds)
                .Select(t => "/" + ((KeyLocation)t.Location).Parent.Replace('\\', '/'))).ToHashSet(StringComparer.OrdinalIgnoreCase);
            foreach (string line in was.Except(now))
            {
                string path = "/" + Uri.UnescapeDataString(line.Split(',')[0][1..]);
                Parents(path).Any(owned.Contains).ShouldBeTrue(path);
            }
        }
        _bench.Undo(1).Failures.ShouldBeEmpty();
        VolumeState.Files(_bench.Root).ShouldBe(files);
    }

    /// <summary>Every key, and every value with its type and data, as a second program sees them.</summary>
    private static List<string> Second(string hive)
    {
        var entries = new List<string>();
        string key = "";
        foreach (string line in Tool.Run("regfexport", hive).Output.Split('\n'))
        {
            if (line.StartsWith("Key path: ", StringComparison.Ordinal))
                entries.Add(key = "key " + line["Key path: ".Length..].Trim());
            else if (line.StartsWith("Value: ", StringComparison.Ordinal))
                entries.Add($"value {key[4..]}: {line["Value: ".Length..].Split(' ', 2)[^1].Trim()}");
            else if (line.Length > 0 && entries.Count > 0 && !line.StartsWith("Key: ", StringComparison.Ordinal))
                entries[^1] += "\n" + line;
        }
        return entries;
    }

    /// <summary>Writes what two programs list of the machine's hive, which is large, beside each other.</summary>
    private void List(string name) => Tool.Read("sh", "-c", "reglookup \"$0\" | sed 's/,[0-9-]* [0-9:]*$//' >\"$1.first\" && regfexport \"$0\" "
        + ">\"$1.second\"", _software, _folder[name]);

    /// <summary>The lines that one of two lists has and the other does not.</summary>
    private string[] Differences(string reader) => [.. Tool.Run("diff", _folder["before." + reader], _folder["after." + reader]).Output.Split('\n')
        .Where(l => l.StartsWith('<') || l.StartsWith('>'))];

    [Fact]
    public void A_block_with_guards_and_a_removal_change_what_they_say_and_undo_is_the_same_bytes()
    {
        const string Family = "Larkfield.Ferry_8pewgm0k42rsa", Policies = @"Policies\Saltmarsh\Counter";
        // This Windows knows no blocks; one that does has the same hives otherwise.
        using (var target = _bench.Open())
        {
            var systems = target.Read(target.SelectEditions([]));
            Should.Throw<MoorfieldException>(() => BlockOperation.Block(target, systems, BlockPlanner.Families(systems, [Family]), [], []).Plan())
                .Kind.ShouldBe(ErrorKind.Refused);
        }
        HiveEdit.Change(_software, h => h.Find(Places.CurrentVersion)!.Value.Set(HiveValue.FromString("CurrentBuild", "19045")));
        string files = VolumeState.Files(_bench.Root);
        var own = Lines(_own);
        List("before");
        ImmutableArray<Guard> guards = [.. new[] { GuardHive.Machine, GuardHive.Account }.Select(h => new Guard(null, h, Policies,
            HiveValue.FromDWord("Quiet", 1), null, null))];
        using (var target = _bench.Open())
        {
            var systems = target.Read(target.SelectEditions([]), guards);
            var blocking = BlockOperation.Block(target, systems, BlockPlanner.Families(systems, [Family]), guards,
                [systems[0].Accounts.Single(a => a.Profile is { } profile && Full(Places.UserHive(profile)) == _own).Name]);
            blocking.CarryOut(blocking.Plan(), new RunSettings(_folder["vault"], new WriteInterceptor()))!.Failures.ShouldBeEmpty();
        }
        List("after");
        string block = "/" + $@"{Places.Blocks}\{Family}".Replace('\\', '/');
        Differences("first").Select(l => Uri.UnescapeDataString(l.Split(',')[0])).ShouldBe(["> " + block[..block.LastIndexOf('/')], "> " + block,
            "> /Policies/Saltmarsh", "> /Policies/Saltmarsh/Counter", "> /Policies/Saltmarsh/Counter/Quiet"], ignoreOrder: true);
        var second = Differences("second");
        second.ShouldAllBe(l => l.StartsWith('>'));
        second.Where(l => l.StartsWith("> Key: ", StringComparison.Ordinal) || l.StartsWith("> Value: ", StringComparison.Ordinal))
            .ShouldBe(["> Key: Deprovisioned", $"> Key: {Family}", "> Key: Saltmarsh", "> Key: Counter", "> Value: 0 Quiet"], ignoreOrder: true);
        Lines(_own).Except(own).Select(l => l.Split(',')[0]).ShouldBe(["/Policies", "/Policies/Saltmarsh", "/Policies/Saltmarsh/Counter",
            "/Policies/Saltmarsh/Counter/Quiet"], ignoreOrder: true);
        own.Except(Lines(_own)).ShouldBeEmpty();
        _bench.Undo(1).Failures.ShouldBeEmpty();
        VolumeState.Files(_bench.Root).ShouldBe(files);

        // Of the machine's hive a removal takes the entries of packages, and adds blocks.
        var before = _bench.Read();
        _bench.Remove("*", "everyone", more: r => r with { Sweep = true }).Failures.ShouldBeEmpty();
        List("after");
        var entries = before.Packages.SelectMany(p => p.AllTraces).Where(t => Full(Hive(t.Location)) == _software).Select(t => Key(t.Location))
            .ToHashSet(StringComparer.OrdinalIgnoreCase);
        string[] lines = Differences("first");
        foreach (string line in lines)
        {
            string path = "/" + Uri.UnescapeDataString(line[2..].Split(',')[0][1..]);
            (line[0] == '<' ? Parents(path).Any(entries.Contains) : path.StartsWith(block[..block.LastIndexOf('/')], StringComparison.Ordinal))
                .ShouldBeTrue(line);
        }
        lines.Count(l => l[0] == '<').ShouldBeGreaterThan(500);
        second = Differences("second");
        int Net(IEnumerable<string> all, Func<string, bool> isKey) => all.Where(isKey).Sum(l => l[0] == '<' ? 1 : -1);
        Net(second, l => l[1..].StartsWith(" Key: ", StringComparison.Ordinal)).ShouldBe(Net(lines, l => l.EndsWith(",KEY,",
            StringComparison.Ordinal)));
        _bench.Undo(3).Failures.ShouldBeEmpty();
        VolumeState.Files(_bench.Root).ShouldBe(files);
    }

    [Fact]
    public void Facts_of_them_count_what_another_program_lists_and_name_nothing()
    {
        using var target = _bench.Open();
        var lines = LayoutFacts.Of(target, []).ToList();
        string[] listed = Tool.Read("sh", "-c", "reglookup -t KEY \"$0\" | cut -d, -f1", _software).Split('\n');
        int Below(string place) => listed.Count(l => l.StartsWith(place, StringComparison.Ordinal) && !l[place.Length..].Contains('/',
            StringComparison.Ordinal));
        const string Store = "/Microsoft/Windows/CurrentVersion/Appx/AppxAllUserStore/";
        int at = lines.FindIndex(l => l.Trim() == "Applications");
        lines.Skip(at + 1).TakeWhile(l => l.StartsWith(lines[at][..^"Applications".Length] + "  ", StringComparison.Ordinal))
            .Where(l => l.Length - l.TrimStart().Length == lines[at].Length - "Applications".Length + 2
                && !l.TrimStart().StartsWith('=')).Sum(l => l.Contains('×', StringComparison.Ordinal) ? int.Parse(l.Split('×')[1]) : 1)
            .ShouldBe(Below(Store + "Applications/"));
        string text = string.Join('\n', lines);
        foreach (var package in _bench.Read().Packages)
        {
            text.Contains(package.FullName.Name, StringComparison.OrdinalIgnoreCase).ShouldBeFalse(package.FullName.Name);
            text.Contains(package.Family.Publisher, StringComparison.OrdinalIgnoreCase).ShouldBeFalse();
        }
        text.Contains("S-1-", StringComparison.Ordinal).ShouldBeFalse();
        lines.Count.ShouldBeLessThan(2000);
    }

    private static WindowsPath Hive(Location location) => location switch
    {
        KeyLocation key => key.Hive,
        ValueLocation value => value.Hive,
        _ => WindowsPath.Root,
    };

    private static string Key(Location location) =>
        "/" + (location is ValueLocation value ? $@"{value.Key}\{value.Value}" : ((KeyLocation)location).Key).Replace('\\', '/');

    private static IEnumerable<string> Parents(string path)
    {
        for (int end = path.Length; end > 0; end = path.LastIndexOf('/', end - 1))
            yield return path[..end];
    }

    public void Dispose() => _folder.Dispose();
}
