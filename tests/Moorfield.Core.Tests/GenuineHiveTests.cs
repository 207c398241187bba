using System.Text.RegularExpressions;
using Moorfield.Core.Layout;
using Moorfield.Core.Model;
using Moorfield.Formats.Appx;
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
