using System.IO.Compression;
using CsCheck;
using Moorfield.Core.Model;
using Moorfield.Core.Storage;
using Moorfield.Core.Vaults;
using Moorfield.StandIn;
using Moorfield.Tests;

namespace Moorfield.Core.Tests;

/// <summary>Packages that come back, on every kind of target, from every kind of place.</summary>
public abstract class BringBackConformance(ConformanceKind kind) : IDisposable
{
    private protected TemporaryFolder Folder { get; } = new(inMemory: true);

    private Bench? _bench;

    private protected Bench Bench => _bench ??= new Bench(kind.Make(Folder), Folder["vault"], kind.Options);

    private protected string State => kind.State(Bench.Root);

    /// <summary>What is known of the packages of all systems but what Windows itself works out at a sign-in, and people's data.</summary>
    private protected List<string> Words() => [.. Bench.ReadAll().SelectMany(s => s.Packages.Select(p => Words(s, p))
        .Concat(s.Blocks.Select(b => $"block {b}")))];

    internal static string Words(SystemSnapshot system, InstalledPackage package) =>
        $"{system.EditionNumber} {package.FullName} {package.DisplayName} {package.Role} {package.Bytes} {package.Newcomers} {package.Blocked} "
            + string.Join(',', package.Accounts.Order(StringComparer.Ordinal)) + string.Join(';', package.AllTraces
                .Where(t => t.Kind is not (TraceKind.AppData or TraceKind.Alias or TraceKind.FileHandler or TraceKind.AccountEntry
                    or TraceKind.HandlerChoice or TraceKind.PackageState or TraceKind.DefaultAssociation))
                .Select(t => t.ToString()).Order(StringComparer.Ordinal));

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

    [Theory]
    [InlineData("Weather")]
    [InlineData("Weather,Calculator")]
    public void Gone_for_all_it_comes_back_from_the_restore_point_of_its_removal(string names)
    {
        var before = Words();
        Bench.Remove(names, "everyone", more: w => w with { Sweep = true });
        string without = State;
        if (kind.Name == "image")
        {
            // What is removed from an image stays in the image, not in the vault.
            Should.Throw<MoorfieldException>(() => Bench.BringBack(names, kind.All)).Message.ShouldContain("--from");
            return;
        }
        Bench.BringBack(names, kind.All).Failures.ShouldBeEmpty();
        // From a package's files alone, like from a package file: what people had in it comes back with an undo only.
        foreach (string name in names.Split(','))
            Bench.ReadAll().ShouldAllBe(s => s.Packages.Any(p => p.DisplayName == name && p.Newcomers && !p.Blocked && p.HasFiles
                && p.Accounts.Length == s.Accounts.Length));
        Bench.ReadAll().ShouldAllBe(s => !s.Notes.Any(n => n.Code == "dependencyMissing" && n.Package!.Family.Name.StartsWith("Northlight.")));
        before.Count.ShouldBe(Words().Count);
        Bench.Undo(2).Failures.ShouldBeEmpty();
        State.ShouldBe(without);
    }

    [Fact]
    public void Gone_for_a_part_it_comes_back_from_its_own_folder()
    {
        Assert.SkipWhen(kind.Part is null, "Where only newcomers have it, its files go with it.");
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
        if (kind.Name != "image")
            Words().ShouldBe(before);
        Bench.ReadAll().ShouldAllBe(s => !s.Notes.Any(n => n.Code == "dependencyMissing"));
    }

    [Theory]
    [InlineData("bring back")]
    [InlineData("go back to a state")]
    public void Cut_off_anywhere_it_has_taken_effect_or_not(string what)
    {
        Assert.SkipWhen(kind.Name == "volume", "InterruptionTests do that on volumes.");
        string other = Other("volume");
        Bench.Create();
        Bench.Remove("Weather", "everyone");
        Tool.Read("cp", Bench.Root, Folder["without"]);
        Tool.Read("cp", "-a", Folder["vault"], Folder["without-vault"]);
        var without = Words();
        void Run(WriteInterceptor interceptor) => _ = what == "bring back" ? Bench.BringBack("Weather", kind.All, other, interceptor)
            : Bench.Restore(1, interceptor);

        int steps = 0;
        Run(new WriteInterceptor((_, _) => steps++));
        var whole = Words();
        var (old, done) = (0, 0);
        var random = new Random();
        // Somewhere on the way, and at the last steps.
        var (early, late) = Thorough.EveryStep ? (9, 5) : (5, 4);
        foreach (int step in Enumerable.Range(0, early).Select(i => 1 + (i * steps / early)).Concat(Enumerable.Range(steps - late + 1, late))
            .Where(s => s > 0))
        {
            Tool.Read("sh", "-c", "cat \"$0\" >\"$1\" && rm -rf \"$3\" && cp -a \"$2\" \"$3\"", Folder["without"], Bench.Root,
                Folder["without-vault"], Folder["vault"]);
            int seed = random.Next();
            CrashDisk.Crash(Folder[$"stash{step}"], Run, step, seed);
            if (kind.Name == "image")
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
                Run(new WriteInterceptor());
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
        Should.Throw<MoorfieldException>(() => Bench.BringBack("Tern Chess", kind.All)).Message.ShouldContain("--from");
        Should.Throw<MoorfieldException>(() => Bench.BringBack("Tide Tables", kind.All, Other("volume"))).Kind.ShouldBe(ErrorKind.InvalidUsage);
        Tool.Read("mkfifo", Folder["pipe.msix"]); // nobody writes into it: it must not be waited for
        Should.Throw<MoorfieldException>(() => Bench.BringBack("Weather", kind.All, Folder["pipe.msix"])).Message.ShouldContain("is a pipe");
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
            using var to = zip.CreateEntry(name, CompressionLevel.NoCompression).Open();
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
