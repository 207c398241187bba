using Moorfield.Core.Model;
using Moorfield.Core.Vaults;
using Moorfield.Tests;

namespace Moorfield.Core.Tests;

/// <summary>Vaults that are damaged in every place, and vaults that live long.</summary>
public sealed class VaultDurabilityTests : IDisposable
{
    private static readonly int Seed = int.TryParse(Environment.GetEnvironmentVariable("MOORFIELD_SEED"), out int seed) ? seed : Random.Shared.Next();
    private readonly TemporaryFolder _folder = new(inMemory: true);
    private readonly Random _random = new(Seed);

    public VaultDurabilityTests(ITestOutputHelper output) => output.WriteLine($"MOORFIELD_SEED={Seed}");

    private static string State(Bench bench) => bench.Root.EndsWith(".ntfs", StringComparison.Ordinal)
        ? Convert.ToHexString(System.Security.Cryptography.SHA256.HashData(File.ReadAllBytes(bench.Root))) : VolumeState.Files(bench.Root);

    private static List<string> Words(Bench bench, bool all = true) => [.. bench.ReadAll().SelectMany(s => s.Packages
        .Where(p => all || p.DisplayName != "Weather").Select(p => BringBackConformance.Words(s, p)).Concat(s.Blocks.Select(b => $"block {b}")))];

    /// <summary>The same bytes, with something wrong at a place.</summary>
    private static byte[] Spoilt(byte[] content, int place, string how)
    {
        byte[] spoilt = [.. content];
        if (how == "cut off")
            return spoilt[..place];
        if (how == "emptied")
            return [];
        for (int i = place; i < Math.Min(place + (how == "zeroes" ? 512 : 1), spoilt.Length); i++)
            spoilt[i] = how == "zeroes" ? (byte)0 : (byte)(spoilt[i] ^ 0x20);
        return spoilt;
    }

    [Theory]
    [InlineData("volume")]
    [InlineData("disk")]
    public void Damage_at_every_region_of_every_file_is_found_and_all_else_comes_back(string kind)
    {
        string made = kind == "disk" ? Demo.CopyDiskTo(_folder, "made.ntfs") : Demo.CopyFewTo(_folder, "made");
        var bench = new Bench(made, _folder["vault"]);
        var before = Words(bench);
        string whole = State(bench);
        bench.Remove("Weather,Calculator", "everyone");
        // Something else writes since, so that nothing goes back whole.
        bench.Run(new Transactions.RunRequest(RunKind.Block, "block", null, bench.Identity(), [], [new KeyAdded("", Layout.Places.Software,
            @"Saltmarsh\Other")]));
        Tool.Read("cp", "-a", made, made + "-removed");
        Tool.Read("cp", "-a", _folder["vault"], _folder["sound"]);
        var files = Directory.EnumerateFiles(_folder["sound"], "*", SearchOption.AllDirectories).Select(f =>
            Path.GetRelativePath(_folder["sound"], f))
            .Where(f => f.StartsWith("blobs", StringComparison.Ordinal) || f.Contains("000001",
                StringComparison.Ordinal)).Order(StringComparer.Ordinal).ToList();
        var (found, back, refused) = (0, 0, 0);
        foreach (string file in files)
        {
            byte[] content = File.ReadAllBytes(Path.Combine(_folder["sound"], file));
            int regions = Math.Min(8, Math.Max(1, content.Length / 8));
            int oneIn = Thorough.EveryStep ? 6 : 24;
            foreach (int region in Enumerable.Range(0, regions).Where(r => r == 0 || r == regions - 1 || _random.Next(oneIn) == 0))
            {
                string how = new[] { "flipped", "zeroes", "cut off", "emptied", "gone" }[_random.Next(5)];
                int place = Math.Min(content.Length - 1, ((content.Length - 1) * region / regions) + _random.Next(Math.Max(1,
                    content.Length / regions)));
                string story = $"{file}, {how} at {place} of {content.Length}";
                Tool.Read("sh", "-c", "rm -rf \"$1\" && cp -a \"$0\" \"$1\"", _folder["sound"], _folder["vault"]);
                string spoilt = Path.Combine(_folder["vault"], file);
                if (how == "gone")
                    File.Delete(spoilt);
                else
                    File.WriteAllBytes(spoilt, Spoilt(content, place, how));
                if (how != "gone" && File.ReadAllBytes(spoilt).AsSpan().SequenceEqual(content))
                    continue;
                bool isFound;
                bool isDamage = !file.EndsWith(".head", StringComparison.Ordinal) && !file.EndsWith(".journal", StringComparison.Ordinal);
                using (var vault = Vault.OpenExisting(_folder["vault"])!)
                {
                    var faults = vault.Numbers().SelectMany(n => VaultMaintenance.Verify(vault, n, new Dictionary<string, bool>())).ToList();
                    // A document may still mean the same, or something else that could be: only its contents have digests.
                    isFound = faults.Count > 0;
                    if (isFound)
                        found++;
                }
                bool isHarmless = !isFound && file.StartsWith("blobs", StringComparison.Ordinal); // not every bit of a zstd frame matters
                if (_random.Next(3) != 0 && region != 0 && !isHarmless)
                    continue;
                Tool.Read("sh", "-c", "rm -rf \"$1\" && cp -a \"$0\" \"$1\"", made + "-removed", made);
                var removed = Words(bench);
                try
                {
                    bench.Undo(1, overwrite: true, verified: false);
                    back++;
                    if (isHarmless)
                        before.Except(Words(bench)).ShouldBeEmpty(story);
                    if (file.StartsWith("blobs", StringComparison.Ordinal) || !isDamage)
                    {
                        // Nothing of Calculator or of the registry is lost by what one content of Weather has, and the other way round.
                        var now = Words(bench);
                        before.Except(now).Select(w => w.Split('_')[0].Split(' ')[^1]).Distinct().Count().ShouldBeLessThanOrEqualTo(1, story);
                    }
                }
                catch (MoorfieldException e)
                {
                    refused++;
                    isHarmless.ShouldBeFalse(story);
                    e.Message.ShouldNotBeEmpty();
                    Words(bench).ShouldBe(removed, story);
                }
            }
        }
        (found > 10, back > 10).ShouldBe((true, true), $"{found} found, {back} undone, {refused} refused");
        whole.ShouldNotBeEmpty();
    }

    [Theory]
    [InlineData("volume")]
    [InlineData("image")]
    public void After_many_random_runs_undos_deletions_and_returns_the_recorded_states_come_back(string kind)
    {
        string made = kind == "image" ? Demo.CopyImageTo(_folder, "made.wim") : Demo.CopyFewTo(_folder, "made");
        string other = Demo.CopyFewTo(_folder, "other");
        var bench = new Bench(made, _folder["vault"]);
        var states = new Dictionary<int, (List<string> Words, string Referees)>();
        string[] names = ["Weather", "Calculator", "Assistant", "Larkfield Crossword"];
        string[] whose = kind == "image" ? ["newcomers"] : ["everyone", "newcomers", "ivy", "ivy,rowan", "accounts"];
        var story = new List<string>();
        int steps = Thorough.EveryStep ? 100 : 40;
        for (int step = 0; step < steps; step++)
        {
            string name = names[_random.Next(names.Length)];
            string who = whose[_random.Next(whose.Length)];
            string what = new[] { "remove", "remove", "undo", "undo", "bring back", "bring back", "record", "delete",
                "without restore point" }[_random.Next(9)];
            try
            {
                switch (what)
                {
                    case "remove":
                        bench.Remove(name, who, more: w => w with { AllowReturn = _random.Next(2) == 0, KeepData = _random.Next(2) == 0 });
                        break;
                    case "bring back":
                        bench.BringBack(name, who, _random.Next(2) == 0 ? other : null);
                        break;
                    case "undo":
                        var stands = bench.Points().Where(p => PointHistory.CanBeUndone(p) || p.Point.Kind == RunKind.Undo).ToList();
                        if (stands.Count == 0)
                            continue;
                        bench.Undo(stands[^(1 + _random.Next(Math.Min(3, stands.Count)))].Point.Number, overwrite: _random.Next(2) == 0);
                        break;
                    case "record":
                        if (states.Count < 8)
                            states[bench.Create()] = (Words(bench), Referees(bench, kind));
                        break;
                    case "without restore point":
                        bench.Run(new Transactions.RunRequest(RunKind.Block, "key", null, bench.Identity(), [],
                            [new KeyAdded("", Layout.Places.Software, $@"Saltmarsh\Other {step}") { Edition = kind == "image" ? 1 : null }]));
                        break;
                    default:
                        using (var vault = Vault.OpenExisting(_folder["vault"]))
                        {
                            if (vault is null)
                                continue;
                            var points = PointHistory.Read(vault, m => throw new InvalidOperationException(m));
                            var old = points.Where(p => !states.ContainsKey(p.Point.Number)).Take(_random.Next(4)).Select(p =>
                                p.Point.Number).ToHashSet();
                            VaultMaintenance.Delete(vault, VaultMaintenance.Plan(points, old, byName: false, _ => false), TimeProvider.System,
                                _ => false);
                            VaultMaintenance.Inspect(vault).Contents.ShouldBeEmpty();
                        }
                        break;
                }
                story.Add($"{what} {name} {who}");
            }
            catch (MoorfieldException e)
            {
                // What cannot be done is said, and changes nothing.
                e.Kind.ShouldBeOneOf([ErrorKind.InvalidUsage, ErrorKind.Refused], $"{what} {name} {who}: {e}\nafter {string.Join("\n", story)}");
            }
            bench.Points().ShouldAllBe(p => p.State != PointState.Interrupted, string.Join("; ", story));
        }
        story.Count.ShouldBeGreaterThan(steps * 2 / 5);
        if (states.Count == 0)
            states[bench.Create()] = (Words(bench), Referees(bench, kind));
        foreach (var (point, (words, referees)) in states.OrderBy(_ => _random.Next()))
        {
            string told = $"back to {point} after {string.Join("; ", story)}";
            bench.Restore(point).Failures.ShouldBeEmpty(told);
            Words(bench).ShouldBe(words, told);
            Referees(bench, kind).ShouldBe(referees, told);
        }
        using var last = Vault.OpenExisting(_folder["vault"])!;
        last.Numbers().SelectMany(n => VaultMaintenance.Verify(last, n, new Dictionary<string, bool>())).ShouldBeEmpty();
    }

    /// <summary>The package state as programs that are not ours tell it: keys by hivexregedit, rows by sqlite3, folders by find; of an image by
    /// wimlib-imagex.</summary>
    private string Referees(Bench bench, string kind)
    {
        if (kind == "image")
        {
            return string.Join('\n', Enumerable.Range(1, 4).Select(i => Tool.Read("wimlib-imagex", "dir", bench.Root, $"{i}")
                .Split('\n').Where(l => l.Contains("/WindowsApps/", StringComparison.Ordinal) || l.Contains("/AppRepository/",
                    StringComparison.Ordinal))
                .Order(StringComparer.Ordinal).Aggregate("", (a, l) => a + l + '\n')));
        }
        string store = string.Join('\n', Tool.Read("hivexregedit", "--export", HiveEdit.Software(bench.Root),
            @"\Microsoft\Windows\CurrentVersion\Appx\AppxAllUserStore").Split('\n').Where(l => l.Trim().Length > 0).Order(StringComparer.Ordinal));
        string rows = Tool.Read("sqlite3", Path.Combine(bench.Root, "ProgramData/Microsoft/Windows/AppRepository/StateRepository-Machine.srd"),
            "SELECT PackageFullName, PackageFamilyName FROM Package JOIN PackageFamily ON PackageFamily = _PackageFamilyID ORDER BY 1; "
                + "SELECT PackageFullName, UserSid FROM PackageUser JOIN Package ON Package = _PackageID JOIN User ON User = _UserID ORDER BY 1, 2; "
                + "SELECT PackageFullName, ApplicationUserModelId FROM Application JOIN Package ON Package = _PackageID ORDER BY 1, 2");
        string files = Tool.Read("sh", "-c",
            "cd \"$0\" && find 'Program Files/WindowsApps' ProgramData/Microsoft/Windows/AppRepository/*.xml -type f "
            + "-exec sha256sum {} + | LC_ALL=C sort -k 2", bench.Root);
        return $"{store}\n{rows}\n{files}";
    }

    [Fact]
    public void A_vault_is_moved_read_elsewhere_and_shared()
    {
        using var onDisk = new TemporaryFolder();
        string vault = onDisk["vault"];
        var one = new Bench(Demo.CopyFewTo(_folder, "one"), vault);
        var two = new Bench(Demo.CopyDiskTo(_folder, "two.ntfs"), vault);
        string before = VolumeState.Files(one.Root);
        one.Remove("Weather", "everyone").Point.ShouldBe(1);
        two.Remove("Weather", "everyone").Point.ShouldBe(2);
        one.Create(withFiles: false).ShouldBe(3);
        Directory.Move(vault, onDisk["elsewhere"]);
        one = new Bench(one.Root, onDisk["elsewhere"]);
        one.Undo(1).Failures.ShouldBeEmpty();
        VolumeState.Files(one.Root).ShouldBe(before);
        new Bench(two.Root, onDisk["elsewhere"]).Undo(2).Failures.ShouldBeEmpty();
        // A format that is newer is refused, whatever else it may be.
        string document = onDisk["elsewhere/points/000001.json"];
        File.WriteAllText(document, File.ReadAllText(document).Replace("restore-point/1", "restore-point/2", StringComparison.Ordinal));
        Should.Throw<MoorfieldException>(() => one.Undo(1)).Message.ShouldContain("newer");
    }

    [Theory]
    [InlineData("volume")]
    [InlineData("image")]
    public void A_damaged_restore_point_stands_in_no_other_ones_way(string kind)
    {
        var bench = new Bench(kind == "image" ? Demo.CopyImageTo(_folder, "made.wim") : Demo.CopyFewTo(_folder, "made"), _folder["vault"]);
        string who = kind == "image" ? "newcomers" : "everyone";
        var before = Words(bench);
        bench.Create().ShouldBe(1);
        bench.Remove("Weather", who).Point.ShouldBe(2);
        string document = _folder["vault/points/000002.json"];
        File.WriteAllBytes(document, Spoilt(File.ReadAllBytes(document), 1000, "zeroes"));
        bench.BringBack("Weather", who, Demo.CopyFewTo(_folder, "other")).Failures.ShouldBeEmpty();
        bench.Undo(3).Failures.ShouldBeEmpty();
        bench.Restore(1).Failures.ShouldBeEmpty();
        Words(bench).ShouldBe(before);
        // The damaged one stays with all that it names; a limit takes away what is left.
        File.Delete(_folder["vault/points/000002.head"]);
        using var vault = Vault.OpenExisting(_folder["vault"])!;
        var named = vault.NamedContents(2);
        named.Any().ShouldBe(kind == "volume");
        string? told = null;
        int last = vault.Numbers()[^1];
        var deletion = VaultMaintenance.EnforceLimit(vault, 0, last, message => told = message)!;
        told.ShouldNotBeNull().ShouldContain("Restore point 2");
        deletion.Gone.ShouldNotBeEmpty();
        deletion.Gone.Select(g => g.Point.Number).ShouldNotContain(2);
        VaultMaintenance.Delete(vault, deletion, TimeProvider.System, _ => false);
        vault.Numbers().ShouldContain(2);
        vault.Numbers().ShouldContain(last);
        named.Any(vault.HasBlob).ShouldBe(kind == "volume");
        named.Where(vault.HasBlob).ShouldAllBe(n => vault.IsSound(n));
    }

    [Fact]
    public void No_point_goes_for_a_limit_when_that_gives_nothing_back()
    {
        var bench = new Bench(Demo.CopyFewTo(_folder, "made"), _folder["vault"]);
        bench.Create();
        bench.Create(); // needs the same contents
        using (var vault = Vault.OpenExisting(_folder["vault"])!)
            VaultMaintenance.EnforceLimit(vault, 0, 2, Assert.Fail).ShouldBeNull();
        bench.Remove("Weather", "everyone");
        bench.Remove("Calculator", "everyone");
        using (var vault = Vault.OpenExisting(_folder["vault"])!)
            VaultMaintenance.EnforceLimit(vault, 0, 4, Assert.Fail)!.Gone.Select(g => g.Point.Number).ShouldBe([1, 2, 3]);
    }

    public void Dispose() => _folder.Dispose();
}
