using System.Runtime.CompilerServices;
using System.Security.Cryptography;
using Moorfield.Core.Model;
using Moorfield.Core.Vaults;
using Moorfield.Tests;

namespace Moorfield.Core.Tests;

/// <summary>
/// Vaults that earlier versions wrote, with the volume and the image as their runs left them. Every later version must list them, read them and
/// undo from them. The files are in tests/golden; docs/architecture.md says how a new one is made.
/// </summary>
public abstract class GoldenVault : IDisposable
{
    private readonly TemporaryFolder _folder = new();
    private readonly string _golden;

    /// <param name="name">Folder in tests/golden.</param>
    protected GoldenVault(string name)
    {
        _golden = Golden(name);
        string archive = Path.Combine(_golden, "after.tar.zst");
        Tool.Read("tar", "--zstd", "-xf", archive, "-C", _folder[""]);
        if (Environment.UserName != "root")
            OwnByMe();
    }

    private static string Golden(string name, [CallerFilePath] string here = "") =>
        Path.GetFullPath(Path.Combine(Path.GetDirectoryName(here)!, "../golden", name));

    /// <summary>The files belonged to root when they were recorded, which nobody else can give back.</summary>
    private void OwnByMe()
    {
        string owner = $"\"uid\":{Tool.Read("id", "-u").Trim()},\"gid\":{Tool.Read("id", "-g").Trim()}";
        foreach (string document in Directory.EnumerateFiles(_folder["vault/points"], "*.json"))
            File.WriteAllText(document, File.ReadAllText(document).Replace("\"uid\":0,\"gid\":0", owner, StringComparison.Ordinal));
    }

    private protected Bench Volume => new(_folder["counter-07"], _folder["vault"]);

    private protected Bench Image => new(_folder["counter-install.wim"], _folder["vault"]);

    /// <summary>Paths whose content is not what it was before the first of the runs.</summary>
    private protected List<string> Differing(string top)
    {
        var before = File.ReadAllLines(Path.Combine(_golden, "before.sha256")).Select(l => (Path: l[66..], Hash: l[..64]))
            .Where(f => f.Path == top || f.Path.StartsWith(top + "/", StringComparison.Ordinal)).ToDictionary(f => f.Path, f => f.Hash);
        before.ShouldNotBeEmpty();
        var now = (File.Exists(_folder[top]) ? [_folder[top]] : Directory.GetFiles(_folder[top], "*", SearchOption.AllDirectories))
            .ToDictionary(f => Path.GetRelativePath(_folder[""], f), f => Convert.ToHexStringLower(SHA256.HashData(File.ReadAllBytes(f))));
        return [.. before.Keys.Union(now.Keys).Where(p => before.GetValueOrDefault(p) != now.GetValueOrDefault(p))];
    }

    private protected bool Has(string path) => File.Exists(_folder[path]);

    public void Dispose()
    {
        _folder.Dispose();
        GC.SuppressFinalize(this);
    }
}

/// <summary>A vault of the first version, from before heads and intentions of undo.</summary>
public sealed class GoldenVaultTests() : GoldenVault("vault-1")
{
    [Fact]
    public void It_is_listed_with_what_became_of_each_run()
    {
        Volume.Points().Select(p => $"{p.Point.Number} {p.Point.Kind} {p.Point.Changes} {p.State}").ShouldBe(
        [
            "1 Remove 91 InEffect", "2 Remove 7 InEffect", "3 Guard 5 InEffect", "4 Remove 12 InEffect", "5 Unblock 1 InEffect",
            "6 Remove 44 InEffect", "7 Remove 7 InEffect", "8 Block 1 Undone", "9 Undo 1 InEffect",
        ]);
        var first = Volume.Points()[0].Point;
        (first.Title, first.Note, first.Target.Computer).ShouldBe(
            ("remove Films, Weather, Northlight Media Engine and Northlight Native Runtime 1 for everyone", "golden", "COUNTER-07"));
        first.Intents.Select(i => (i.Kind, i.Subject)).ShouldBe(
            [(IntentKind.Block, "Northlight.Films_8pewgm0k42rsa"), (IntentKind.Block, "Northlight.Weather_8pewgm0k42rsa")], ignoreOrder: true);
        Volume.Changes(1).Select(c => c.Describe()).ShouldContain(c => c.StartsWith("files removed: Program Files\\WindowsApps\\Northlight.Weather"));
    }

    [Fact]
    public void Its_runs_on_a_volume_are_undone_whole_and_in_part()
    {
        Differing("counter-07").Count.ShouldBeGreaterThan(50);
        foreach (int point in new[] { 5, 4, 3, 2 })
            Volume.Undo(point).Failures.ShouldBeEmpty();
        Volume.Undo(1, only: "Northlight.Films_8pewgm0k42rsa").Failures.ShouldBeEmpty();
        Volume.Read().Packages.ShouldContain(p => p.DisplayName == "Films");
        Volume.Undo(1).Failures.ShouldBeEmpty();
        Volume.Read().Packages.ShouldContain(p => p.DisplayName == "Weather");
        // The partial undo wrote hives and database anew; all other files are what they were.
        Differing("counter-07")
            .ShouldAllBe(p => p.EndsWith("SOFTWARE") || p.EndsWith("UsrClass.dat") || p.EndsWith(".srd") || p.EndsWith("NTUSER.DAT"));
    }

    [Fact]
    public void Its_runs_on_a_volume_are_undone_to_the_last_byte()
    {
        foreach (int point in new[] { 5, 4, 3, 2, 1 })
            Volume.Undo(point).Failures.ShouldBeEmpty();
        Differing("counter-07").ShouldBeEmpty();
    }

    [Fact]
    public void Its_runs_on_an_image_are_undone_to_the_last_byte()
    {
        Differing("counter-install.wim").ShouldNotBeEmpty();
        Image.Undo(7).Failures.ShouldBeEmpty();
        Image.Undo(6).Failures.ShouldBeEmpty();
        Differing("counter-install.wim").ShouldBeEmpty();
    }

    [Fact]
    public void A_run_of_today_is_added_and_undone()
    {
        Volume.Remove("Calculator", "everyone").Point.ShouldBe(10);
        Has("vault/points/000010.head").ShouldBeTrue();
        Volume.Points()[^1].Point.Intents.Select(i => i.Kind).ShouldBe([IntentKind.Remove, IntentKind.Block], ignoreOrder: true);
        Volume.Undo(10).Failures.ShouldBeEmpty();
        Volume.Points()[9].State.ShouldBe(PointState.Undone);
    }
}

/// <summary>A vault of November 2026: with leftovers, an undo for one account, a recorded state, and editions renamed and dropped.</summary>
public sealed class GoldenVault2026Tests() : GoldenVault("vault-1-2026-11")
{
    [Fact]
    public void It_is_listed_with_what_became_of_each_run() =>
        Volume.Points().Select(p => $"{p.Point.Number} {p.Point.Kind} {p.State}").ShouldBe(
        [
            "1 Remove UndoneInPart", "2 Remove InEffect", "3 Guard InEffect", "4 Remove InEffect", "5 Block InEffect", "6 Undo InEffect",
            "7 Record Recorded", "8 Remove InEffect", "9 Editions InEffect", "10 Editions InEffect",
        ]);

    [Fact]
    public void Its_runs_on_a_volume_are_undone()
    {
        Differing("counter-07").Count.ShouldBeGreaterThan(10);
        foreach (int point in new[] { 5, 4, 3, 2, 1 })
            Volume.Undo(point).Failures.ShouldBeEmpty();
        // The undo for one account wrote hives and database again; all other files are what they were.
        Differing("counter-07").ShouldAllBe(p => p.EndsWith("SOFTWARE") || p.EndsWith(".dat") || p.EndsWith(".srd") || p.EndsWith("NTUSER.DAT"));
        Volume.Read().Packages.Count(p => p.DisplayName is "Films" or "Weather" or "Music").ShouldBe(3);
    }

    [Fact]
    public void Its_recorded_state_comes_back()
    {
        Volume.Undo(5).Failures.ShouldBeEmpty();
        Volume.Read().Blocks.ShouldNotContain(b => b.Name == "Pennywhistle.Patience");
        Volume.Restore(7).Failures.ShouldBeEmpty();
        Volume.Read().Blocks.ShouldContain(b => b.Name == "Pennywhistle.Patience");
    }

    [Fact]
    public void Its_runs_on_an_image_are_undone_to_the_last_byte()
    {
        Differing("counter-install.wim").ShouldNotBeEmpty();
        foreach (int point in new[] { 10, 9, 8 })
            Image.Undo(point).Failures.ShouldBeEmpty();
        Differing("counter-install.wim").ShouldBeEmpty();
    }
}
