using Moorfield.Core.Model;
using Moorfield.Core.Operations;
using Moorfield.Core.Storage;
using Moorfield.Core.Targets;
using Moorfield.Formats.Hives;
using Moorfield.Tests;

namespace Moorfield.Core.Tests;

/// <summary>Facts tell how a system is laid out, and nothing of its people.</summary>
public sealed class LayoutFactTests : IDisposable
{
    private const string Canary = "Kanarienvogel7Q";
    private readonly TemporaryFolder _folder = new(inMemory: true);

    private static List<string> Facts(string path, params string[] editions)
    {
        using var target = Target.Open(path, new WriteInterceptor());
        return [.. LayoutFacts.Of(target, editions)];
    }

    private static IEnumerable<string> Hives(string root) => new[] { "SOFTWARE", "SYSTEM", "NTUSER.DAT", "UsrClass.dat" }
        .SelectMany(n => Directory.GetFiles(root, n, SearchOption.AllDirectories));

    private static IEnumerable<HiveKey> All(HiveKey key) => key.Children().SelectMany(All).Prepend(key);

    /// <summary>Whether a text tells of something that only this machine has.</summary>
    private static void ShouldTellNothing(IEnumerable<string> lines, SystemSnapshot system)
    {
        string text = string.Join('\n', lines);
        var secrets = system.Packages.SelectMany(p => new[] { p.FullName.Name, p.DisplayName, p.Family.Publisher })
            .Concat(system.Accounts.SelectMany(a => new[] { a.Name, a.Sid })).Append(system.Computer).Append(system.MachineId).Append(Canary)
            .Where(s => s.Length > 0).Distinct(StringComparer.OrdinalIgnoreCase);
        // 'Camera' and such are names of apps, and Windows' own words as well.
        foreach (string secret in secrets.Where(s => s.Length > 3))
            text.Contains(secret, StringComparison.OrdinalIgnoreCase).ShouldBeFalse(secret);
    }

    [Fact]
    public void They_count_what_is_there_by_its_shape()
    {
        string root = Demo.CopyTo(_folder);
        var lines = Facts(root);
        lines[0].ShouldBe("moorfield facts 1");
        lines[1].ShouldBe("Windows: build 26100.2314, x64");
        var system = new Bench(root, _folder["vault"]).Read();
        int staged = system.Packages.SelectMany(p => p.Parts).Count(p => !p.FullName.IsBundle
            && p.Traces.Any(t => t.Kind == TraceKind.StagedFolder));
        lines[lines.IndexOf("folder of 'staged'") + 2].ShouldBe($"  {{full}} × {staged}");
        lines.ShouldContain("SOFTWARE: 1 read, format 1.3");
        lines.ShouldContain("UsrClass.dat: 3 read, format 1.3");
        lines.ShouldContain("            = Path: String, 194 to 206 bytes × 12");
        lines.Count.ShouldBeLessThan(250);
        ShouldTellNothing(lines, system);
    }

    [Fact]
    public void A_canary_in_every_key_every_value_and_every_folder_is_not_told()
    {
        string root = Demo.CopyFewTo(_folder);
        int without = Facts(root).Count;
        var system = new Bench(root, _folder["vault"]).Read();
        int planted = 0;
        foreach (string path in Hives(root))
        {
            HiveEdit.Change(path, hive =>
            {
                foreach (var key in All(hive.Root).ToList())
                {
                    key.Add($"{Canary} {planted++}").Set(HiveValue.FromString(Canary, Canary));
                    key.Add($"{Canary}.App_1.0.0.0_x64__8wekyb3d8bbwe").Add(Canary);
                    key.Set(HiveValue.FromString($"{Canary}{planted}", $"what {Canary} has"));
                    key.Set(new HiveValue($"{Canary}!App", (HiveValueType)7001, System.Text.Encoding.Unicode.GetBytes(Canary)));
                }
            });
        }
        planted.ShouldBeGreaterThan(500);
        foreach (string folder in Directory.GetDirectories(root, "*", SearchOption.AllDirectories))
            File.WriteAllText(Path.Combine(folder, $"{Canary}.txt"), Canary);
        var lines = Facts(root);
        ShouldTellNothing(lines, system);
        lines.Count.ShouldBeGreaterThan(without + 40);
        lines.ShouldContain(l => l.Contains("characters: letters or digits space} ×", StringComparison.Ordinal));
        lines.ShouldContain(l => l.Contains("= {19 characters: letters or digits !}: type 7001, 30 bytes", StringComparison.Ordinal));
    }

    [Fact]
    public void A_canary_in_place_of_every_text_is_not_told()
    {
        string root = Demo.CopyFewTo(_folder);
        var system = new Bench(root, _folder["vault"]).Read();
        foreach (string path in Hives(root))
        {
            HiveEdit.Change(path, hive =>
            {
                // Where the profiles are stays, or no account's hive would be read.
                foreach (var key in All(hive.Root))
                {
                    foreach (var value in key.Values().Where(v => v.AsString() is not null && v.Name != "ProfileImagePath"))
                        key.Set(HiveValue.FromString(value.Name, $"{Canary} {Canary}"));
                }
            });
        }
        var lines = Facts(root);
        lines[1].ShouldBe("Windows: build not known, architecture not known");
        lines.ShouldContain("UsrClass.dat: 3 read, format 1.3");
        ShouldTellNothing(lines, system);
    }

    [Fact]
    public void They_are_those_of_one_system_and_of_none_that_has_no_hives()
    {
        string image = Demo.CopyImageTo(_folder);
        Facts(image, "2")[1].ShouldBe("Windows: build 26100.2314, x64");
        Should.Throw<MoorfieldException>(() => Facts(image)).Message.ShouldStartWith("Facts are those of one system: choose one with --edition.");
        string survey = StandIn.World.WriteSurveys(_folder.Path)[0];
        var refused = Should.Throw<MoorfieldException>(() => Facts(survey));
        (refused.Kind, refused.Message).ShouldBe((ErrorKind.Refused,
            $"{Path.GetFileName(survey)} is a survey, which has no hives. Name the disk, the folder or the image itself."));
    }

    [Fact]
    public void A_hive_that_is_damaged_within_is_named()
    {
        string root = Demo.CopyFewTo(_folder);
        string path = Hives(root).First(h => h.EndsWith("UsrClass.dat", StringComparison.Ordinal));
        byte[] hive = File.ReadAllBytes(path);
        // The signature of every value, which stands behind the size of its cell.
        for (int at = 4096; at + 6 < hive.Length; at += 8)
        {
            if (hive[at + 4] == 'v' && hive[at + 5] == 'k')
                hive[at + 4] = (byte)'?';
        }
        File.WriteAllBytes(path, hive);
        var thrown = Should.Throw<MoorfieldException>(() => Facts(root));
        (thrown.Kind, thrown.Message.Contains("UsrClass.dat", StringComparison.Ordinal)).ShouldBe((ErrorKind.Failed, true), thrown.Message);
    }

    public void Dispose() => _folder.Dispose();
}
