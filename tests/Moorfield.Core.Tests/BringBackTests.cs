using System.Collections.Immutable;
using System.IO.Compression;
using CsCheck;
using Moorfield.Core.Model;
using Moorfield.Core.Operations;
using Moorfield.Core.Trees;
using Moorfield.Core.Vaults;
using Moorfield.Formats.Appx;
using Moorfield.Formats.Hives;
using Moorfield.StandIn;
using Moorfield.Tests;

namespace Moorfield.Core.Tests;

/// <summary>Packages that come back, on every kind of target, from every kind of place.</summary>
public abstract class BringBackConformance(ConformanceKind kind) : IDisposable
{
    private protected TemporaryFolder Folder { get; } = new(inMemory: true);

    private Bench? _bench;

    private protected Bench Bench => _bench ??= new Bench(kind.Make(Folder), Folder["vault"]);

    private protected string State => kind.State(Bench.Root);

    /// <summary>What is known of the packages of all systems but what Windows itself works out at a sign-in, and people's data.</summary>
    private protected List<string> Words() => [.. Bench.ReadAll().SelectMany(s => s.Packages.Select(p => Words(s, p))
        .Concat(s.Blocks.Select(b => $"block {b}")))];

    internal static string Words(SystemSnapshot system, InstalledPackage package) =>
        $"{system.EditionNumber} {package.FullName} {package.DisplayName} {package.Role} {package.Bytes} {package.Newcomers} {package.Blocked} "
            + string.Join(',', package.Accounts.Order(StringComparer.Ordinal)) + string.Join(';', package.AllTraces
                .Where(t => t.Kind is not (TraceKind.AppData or TraceKind.Alias or TraceKind.FileHandler or TraceKind.HandlerChoice
                    or TraceKind.PackageState or TraceKind.DefaultAssociation)).Select(t => t.ToString()).Order(StringComparer.Ordinal));

    private protected string Other(string what) => what switch
    {
        "volume" => Demo.CopyFewTo(Folder, "other"),
        "disk" => Demo.CopyDiskTo(Folder, "other.ntfs"),
        "image" => Demo.CopyImageTo(Folder, "other.wim"),
        _ => PackageFile(Demo.CopyFewTo(Folder, "packed"), "Northlight.Weather"),
    };

    private protected string PackageFile(string volume, string name)
    {
        PackageFileWriter.Write(volume, name, Folder["weather.msixbundle"]);
        return Folder["weather.msixbundle"];
    }

    [Theory]
    [InlineData("volume")]
    [InlineData("disk")]
    [InlineData("image")]
    [InlineData("package file")]
    public void Gone_for_all_it_comes_back_from_elsewhere_and_that_is_undone(string what)
    {
        string other = Other(what);
        var before = Words();
        Bench.Remove("Weather", "everyone");
        string without = State;
        Bench.BringBack("Northlight.Weather", kind.All, other).Failures.ShouldBeEmpty();
        if (what != "package file")
            Words().ShouldBe(before);
        Bench.ReadAll().ShouldAllBe(s => s.Packages.Any(p => p.DisplayName == "Weather" && p.Newcomers && !p.Blocked
            && p.Accounts.Length == s.Accounts.Length && p.HasFiles));
        Bench.ReadAll().ShouldAllBe(s => !s.Notes.Any(n => n.Code == "registrationIncomplete" && n.Package!.Family.Name == "Northlight.Weather"));
        Bench.Undo(2).Failures.ShouldBeEmpty();
        State.ShouldBe(without);
    }

    [Fact]
    public void Gone_for_a_part_it_comes_back_from_its_own_folder()
    {
        if (kind.Part is null)
            return; // where only newcomers have it, its files go with it
        var before = Words();
        Bench.Remove("Weather", "newcomers");
        Bench.BringBack("Weather", "newcomers").Failures.ShouldBeEmpty();
        Words().ShouldBe(before);
        Bench.Remove("Weather,Calculator", kind.Part);
        Bench.BringBack("Weather,Calculator", kind.Part).Failures.ShouldBeEmpty();
        Words().ShouldBe(before);
        Bench.BringBack("Weather", kind.Part).ShouldBe(Outcome.Nothing);
    }

    [Fact]
    public void What_it_needs_comes_along()
    {
        string other = Other("volume");
        var before = Words();
        var all = string.Join(',', Bench.Read().Packages.Where(p => p.Role == PackageRole.Application).Select(p => p.DisplayName));
        Bench.Remove(all, "everyone", more: w => w with { Sweep = true });
        Words().Count(w => w.Contains(" Framework ")).ShouldBeLessThan(before.Count(w => w.Contains(" Framework ")));
        Bench.BringBack(all, kind.All, other).Failures.ShouldBeEmpty();
        if (kind != ConformanceKind.Image)
            Words().ShouldBe(before);
        Bench.ReadAll().ShouldAllBe(s => !s.Notes.Any(n => n.Code == "dependencyMissing"));
    }

    [Theory]
    [InlineData("bring back")]
    [InlineData("go back to a state")]
    public void Cut_off_anywhere_it_has_taken_effect_or_not(string what)
    {
        if (kind == ConformanceKind.Volume)
            return; // InterruptionTests
        string other = Other("volume");
        Bench.Create();
        Bench.Remove("Weather", "everyone");
        Tool.Read("cp", Bench.Root, Folder["without"]);
        Tool.Read("cp", "-a", Folder["vault"], Folder["without-vault"]);
        var without = Words();
        void Run(WriteSeam seam) => _ = what == "bring back" ? Bench.BringBack("Weather", kind.All, other, seam) : Bench.Restore(1, seam);

        int steps = 0;
        Run(new WriteSeam((_, _) => steps++));
        var whole = Words();
        var (old, done) = (0, 0);
        var random = new Random();
        foreach (int step in Enumerable.Range(0, 14).Select(i => i > 8 ? steps - 13 + i : 1 + (i * steps / 9)).Where(i => i > 0))
        {
            Tool.Read("sh", "-c", "cat \"$0\" >\"$1\" && rm -rf \"$3\" && cp -a \"$2\" \"$3\"", Folder["without"], Bench.Root,
                Folder["without-vault"], Folder["vault"]);
            int seed = random.Next();
            CrashDisk.Crash(Folder[$"stash{step}"], Run, step, seed);
            if (kind == ConformanceKind.Image)
                Bench.Settle();
            var now = Words();
            (now.SequenceEqual(without) || now.SequenceEqual(whole)).ShouldBeTrue($"step {step} of {steps}, seed {seed}");
            if (now.SequenceEqual(whole))
                done++;
            else
                old++;
            Bench.Points().ShouldAllBe(p => p.State != PointState.Interrupted, $"step {step} of {steps}, seed {seed}");
            // It can be done, or undone, whatever happened.
            if (now.SequenceEqual(without))
                Run(new WriteSeam());
            else
                Bench.Undo(3).Failures.ShouldBeEmpty();
        }
        (old > 3, done > 0).ShouldBe((true, true));
    }

    [Fact]
    public void What_cannot_be_had_is_refused_and_nothing_changes()
    {
        Bench.Remove("Weather,Calculator", "everyone", more: w => w with { Sweep = true });
        string without = State;
        Should.Throw<MoorfieldException>(() => Bench.BringBack("Weather", kind.All)).Message.ShouldContain("--from");
        Should.Throw<MoorfieldException>(() => Bench.BringBack("Tide Tables", kind.All, Other("volume"))).Trouble.ShouldBe(Trouble.Misused);
        Tool.Read("mkfifo", Folder["pipe.msix"]); // nobody writes into it: it must not be waited for
        Should.Throw<MoorfieldException>(() => Bench.BringBack("Weather", kind.All, Folder["pipe.msix"])).Message.ShouldContain("no file");
        State.ShouldBe(without);
    }

    [Fact]
    public void A_package_file_that_is_not_as_its_block_map_says_is_refused_and_nothing_changes()
    {
        string file = Other("package file");
        Bench.Remove("Weather", "everyone");
        string without = State;
        using (var zip = ZipFile.Open(file, ZipArchiveMode.Update))
        {
            var member = zip.Entries.First(e => e.Name.EndsWith("_x64.appx", StringComparison.Ordinal));
            string name = member.FullName;
            using var content = new MemoryStream();
            using (var stream = member.Open())
                stream.CopyTo(content);
            using (var inner = new ZipArchive(content, ZipArchiveMode.Update, leaveOpen: true))
            {
                var entry = inner.Entries.First(e => e.Length > 100
                    && e.Name is not ("AppxManifest.xml" or "AppxBlockMap.xml" or "AppxSignature.p7x"));
                using var stream = entry.Open();
                stream.Position = 50;
                int old = stream.ReadByte();
                stream.Position = 50;
                stream.WriteByte((byte)(old ^ 1));
            }
            member.Delete();
            using var to = zip.CreateEntry(name).Open();
            content.Position = 0;
            content.CopyTo(to);
        }
        Should.Throw<MoorfieldException>(() => Bench.BringBack("Northlight.Weather", kind.All, file))
            .Message.ShouldContain("otherwise than its block map");
        State.ShouldBe(without);
    }

    public void Dispose()
    {
        Folder.Dispose();
        GC.SuppressFinalize(this);
    }
}

/// <summary>On a volume, where sign-ins and updates can be played.</summary>
public sealed class BringBackToVolume() : BringBackConformance(ConformanceKind.Volume)
{
    private static readonly string[] Played =
        ["Northlight.Weather", "Northlight.Films", "Northlight.ShopFront", "GannetRowe.TideTables", "Northlight.Notes"];

    private static readonly string[] Whose = ["everyone", "newcomers", "ivy"];

    [Fact]
    public void Sign_in_and_update_go_on_as_if_it_had_never_been_gone() =>
        Gen.Select(Gen.Int[0, Played.Length - 1].Select(i => Played[i]).HashSet[1, 3], Gen.Int[0, 2].Select(i => Whose[i]), Gen.Bool, Gen.Bool)
            .Sample((names, who, update, elsewhere) =>
        {
            using var folder = new TemporaryFolder(inMemory: true);
            string image = Demo.CopyUpdateTo(folder);
            string untouched = Demo.CopyTo(folder, "untouched");
            var bench = new Bench(Demo.CopyTo(folder), folder["vault"]);
            string packages = string.Join(',', names);
            bench.Remove(packages, who);
            bench.BringBack(packages, who, elsewhere ? untouched : Held(bench, names) ? null : untouched).Failures.ShouldBeEmpty();
            foreach (string volume in new[] { bench.Root, untouched })
            {
                if (update)
                    new Play(Demo.World).Update(volume, image);
                new Play(Demo.World).SignIn(volume, "hazel");
            }
            var (played, expected) = (bench.Read(), new Bench(untouched, folder["none"]).Read());
            var had = expected.Packages.Select(p => BringBackConformance.Words(expected, p)).ToList();
            // Who did not have it and asked for it has it besides.
            played.Packages.Select(p => p.FullName).ShouldBe(expected.Packages.Select(p => p.FullName));
            foreach (var package in expected.Packages)
            {
                var now = played.Package(package.FullName)!;
                package.Accounts.Except(now.Accounts).ShouldBeEmpty();
                (now.Newcomers, now.Blocked).ShouldBe((package.Newcomers || (names.Contains(package.FullName.Name) && who != "ivy"),
                    package.Blocked));
                if (!names.Contains(package.FullName.Name) && package.Role != PackageRole.Framework)
                    BringBackConformance.Words(played, now).ShouldBe(BringBackConformance.Words(expected, package));
            }
            had.ShouldNotBeEmpty();
        }, iter: 8, threads: 1);

    private static bool Held(Bench bench, IEnumerable<string> names) =>
        names.All(n => bench.Read().Packages.Any(p => p.FullName.Name == n && p.HasFiles));

    [Fact]
    public void From_a_package_file_and_back_to_a_recorded_state_all_rows_are_there()
    {
        string file = Other("package file");
        string rows = Rows();
        Bench.Create();
        Bench.Remove("Weather", "everyone");
        Bench.BringBack("Northlight.Weather", "ivy,newcomers", file);
        Rows().ShouldNotBe(rows);
        Bench.Restore(1).Failures.ShouldBeEmpty();
        Rows().ShouldBe(rows);

        string Rows() => Tool.Read("sqlite3", Path.Combine(Bench.Root, "ProgramData/Microsoft/Windows/AppRepository/StateRepository-Machine.srd"),
            "SELECT PackageFullName, PackageFamilyName FROM Package JOIN PackageFamily ON PackageFamily = _PackageFamilyID ORDER BY 1; "
                + "SELECT PackageFullName, UserSid FROM PackageUser JOIN Package ON Package = _PackageID JOIN User ON User = _UserID ORDER BY 1, 2; "
                + "SELECT ApplicationUserModelId FROM Application ORDER BY 1; SELECT ApplicationUserModelId, UserSid FROM ApplicationUser "
                + "JOIN Application ON Application = _ApplicationID JOIN User ON User = _UserID ORDER BY 1, 2");
    }

    [Fact]
    public void Another_version_that_is_there_is_not_mixed_with_an_older_one()
    {
        string other = Demo.CopyUpdateTo(Folder);
        var whole = new Bench(Demo.CopyTo(Folder, "whole"), Folder["vault2"]);
        whole.Remove("Films", "ivy");
        var refused = Should.Throw<MoorfieldException>(() => whole.BringBack("Weather", "everyone", other));
        (refused.Trouble, refused.Message.Contains("Leave --from out")).ShouldBe((Trouble.Refused, true));
    }

    [Fact]
    public void What_extends_another_package_needs_that_one()
    {
        var whole = new Bench(Demo.CopyTo(Folder, "whole"), Folder["vault2"]);
        string other = Demo.CopyTo(Folder, "other");
        whole.Remove("Picture Viewer", "everyone");
        Should.Throw<MoorfieldException>(() => whole.BringBack("Picture Viewer Filters", "ivy", other)).Message.ShouldContain("extends");
        whole.BringBack("Picture Viewer,Picture Viewer Filters", "ivy", other).Failures.ShouldBeEmpty();
        whole.Read().Packages.Single(p => p.DisplayName == "Picture Viewer Filters").Accounts.ShouldBe([Demo.Sid("ivy")]);
        whole.Read().Packages.Single(p => p.DisplayName == "Picture Viewer").Newcomers.ShouldBeFalse();
        whole.Read().IsBlocked(whole.Read().Packages.Single(p => p.DisplayName == "Picture Viewer").Family).ShouldBeTrue();
    }

    [Fact]
    public void A_part_of_the_system_comes_back_with_its_guard_lifted()
    {
        var before = Words();
        ImmutableArray<Guard> guards = [.. new[] { GuardHive.Machine, GuardHive.Account }.Select(h => new Guard(
            null, h, @"Policies\Northlight\Assistant", HiveValue.FromDWord("TurnOff", 1), Demo.Family("Northlight.Assistant"), null))];
        Bench.Remove("Assistant", "everyone", more: w => w with { Guards = Assessment.GuardStates.Of(Guarded(), guards, w.For) });
        SystemSnapshot Guarded()
        {
            using var target = Bench.Open();
            return target.Read(target.Choose([]), guards)[0];
        }

        Guarded().PolicyHives.SelectMany(h => h.Values.Values).ShouldContain(v => v != null);
        Bench.BringBack("Assistant", "everyone").Failures.ShouldBeEmpty();
        Words().ShouldBe(before);
        Guarded().PolicyHives.SelectMany(h => h.Values.Values).ShouldAllBe(v => v == null);
    }

    [Fact]
    public void A_registration_is_what_the_system_would_write()
    {
        // The stand-in's own registering beside ours, key by key.
        string ours = Bench.Root;
        string theirs = Demo.CopyFewTo(Folder, "theirs");
        Bench.Remove("Weather", "ivy");
        new Bench(theirs, Folder["vault2"]).Remove("Weather", "ivy");
        Bench.BringBack("Weather", "ivy");
        new Play(Demo.World).Register(theirs, "Northlight.Weather", "ivy");
        foreach (string key in new[] { $@"Microsoft\Windows\CurrentVersion\Appx\AppxAllUserStore\{Demo.Sid("ivy")}" })
            Keys(HiveEdit.Software(ours), key).ShouldBe(Keys(HiveEdit.Software(theirs), key));
        foreach (string place in new[] { "Packages", "Families" })
        {
            string key = $@"Local Settings\Software\Microsoft\Windows\CurrentVersion\AppModel\Repository\{place}";
            Keys(Classes(ours), key).ShouldBe(Keys(Classes(theirs), key));
        }

        static string Classes(string root) => Path.Combine(root, "Users/ivy/AppData/Local/Microsoft/Windows/UsrClass.dat");
    }

    /// <summary>All keys below one, with their values but times.</summary>
    private static List<string> Keys(string path, string key)
    {
        using var file = File.OpenHandle(path);
        using var hive = Hive.OpenRead(file);
        var lines = new List<string>();
        Add(hive.Find(key)!.Value.Export(), "");
        return [.. lines.Order(StringComparer.OrdinalIgnoreCase)];

        void Add(RecordedKey recorded, string place)
        {
            lines.Add(place);
            lines.AddRange(recorded.Values.Where(v => v.Name is not ("InstallTime" or "DisplayName")).Select(v =>
                $"{place}: {v.Name} {v.Type} {Convert.ToHexString(v.Data.Span)}"));
            foreach (var child in recorded.Keys)
                Add(child, $@"{place}\{child.Name}");
        }
    }
}

/// <summary>On a disk.</summary>
public sealed class BringBackToDisk() : BringBackConformance(ConformanceKind.Disk);

/// <summary>On an image.</summary>
public sealed class BringBackToImage() : BringBackConformance(ConformanceKind.Image);
