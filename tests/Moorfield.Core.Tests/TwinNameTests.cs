using Moorfield.Core.Layout;
using Moorfield.Core.Model;
using Moorfield.Core.Storage;
using Moorfield.Core.Targets;
using Moorfield.Formats.Disks;
using Moorfield.Formats.Ntfs;
using Moorfield.Tests;

namespace Moorfield.Core.Tests;

/// <summary>Names that differ in case only, names that only some tables of capitals take for one, and attributes whose names are no text.</summary>
public sealed class TwinNameTests : IDisposable
{
    private readonly TemporaryFolder _folder = new(inMemory: true);

    private static readonly string[] Names =
        ["Twin.dat", "twin.dat", "TWIN.DAT", "\u10d0.dat", "\u1c90.dat", "\U00010400.dat", "\U00010428.dat", "\u03c3\u03c2.dat"];

    private static byte[] Content(string name) => System.Text.Encoding.UTF8.GetBytes($"what {name} holds");

    private static string Staged(string name) => $"Program Files/WindowsApps/{Demo.FullName(name)}";

    [Fact]
    public void Twins_in_a_folder_go_and_come_back()
    {
        var bench = new Bench(_folder, few: true);
        foreach (string name in Names)
            File.WriteAllBytes(Path.Combine(bench.Staged("Northlight.Weather"), name), Content(name));
        Directory.CreateDirectory(Path.Combine(bench.Staged("Northlight.Weather"), "assets", "inner"));
        Directory.CreateDirectory(Path.Combine(bench.Staged("Northlight.Weather"), "ASSETS"));
        File.WriteAllText(Path.Combine(bench.Staged("Northlight.Weather"), "ASSETS", "inner"), "a file here, a folder there");
        string before = VolumeState.Files(bench.Root);
        bench.Remove("Weather", "everyone");
        Directory.Exists(bench.Staged("Northlight.Weather")).ShouldBeFalse();
        bench.Undo(1).Failures.ShouldBeEmpty();
        VolumeState.Files(bench.Root).ShouldBe(before);
        // A state that was recorded by hand has them as well.
        bench.Create();
        bench.Remove("Weather", "everyone");
        bench.Restore(3).Failures.ShouldBeEmpty();
        // Hives are put back key by key then; the folders are what they were.
        VolumeState.Files(bench.Root).Split('\n').Where(l => l.Contains("/WindowsApps/", StringComparison.Ordinal))
            .ShouldBe(before.Split('\n').Where(l => l.Contains("/WindowsApps/", StringComparison.Ordinal)));
    }

    [Fact]
    public void Twins_in_an_image_go_and_come_back()
    {
        var bench = new Bench(Demo.CopyImageTo(_folder), _folder["vault"]);
        foreach (string name in Names)
        {
            _folder.Write($"twins/{name}", Content(name));
            Tool.Read("wimlib-imagex", "update", bench.Root, "1",
                $"--command=add '{_folder[$"twins/{name}"]}' '/{Staged("Northlight.Weather")}/{name}'");
        }
        var before = WimSource.Details(bench.Root, 1);
        before.Keys.Count(k => Names.Any(n => k.EndsWith("/" + n, StringComparison.Ordinal))).ShouldBe(Names.Length);
        bench.Remove("Weather", "newcomers");
        // Not by the old header: entry by entry.
        bench.Remove("Calculator", "newcomers");
        bench.Undo(1).Failures.ShouldBeEmpty();
        var after = WimSource.Details(bench.Root, 1);
        before.Keys.Where(k => k.Contains("Weather", StringComparison.Ordinal)).Except(after.Keys).ShouldBeEmpty();
        foreach (string name in Names)
            Tool.Read("wimlib-imagex", "extract", bench.Root, "1", $"/{Staged("Northlight.Weather")}/{name}", "--to-stdout")
                .ShouldBe(System.Text.Encoding.UTF8.GetString(Content(name)));
    }

    private static void Edit(string path, Action<NtfsVolume> edit)
    {
        var file = File.OpenHandle(path, FileMode.Open, FileAccess.ReadWrite);
        using var source = new FileSource(
            file, file.Dispose, RandomAccess.GetLength(file), (at, bytes) => RandomAccess.Write(file, bytes.Span, at), () => { });
        using var volume = NtfsVolume.Mount(source);
        edit(volume);
        volume.Unmount();
    }

    private static ulong Find(NtfsVolume volume, params string[] names) =>
        names.Aggregate(NtfsVolume.Root, (at, name) => volume.List(at).First(n => n.Text == name).Reference);

    [Theory]
    [InlineData(false)]
    [InlineData(true)]
    public void Twins_on_a_disk_go_and_come_back(bool somethingElseWrote)
    {
        var bench = new Bench(Demo.CopyDiskTo(_folder), _folder["vault"]);
        Edit(bench.Root, volume =>
        {
            ulong package = Find(volume, "Program Files", "WindowsApps", Demo.FullName("Northlight.Weather"));
            foreach (string name in Names)
            {
                ulong file = volume.Create(package, name, isFolder: false);
                using var content = new MemoryStream(Content(name));
                volume.AddStream(file, new NtfsStream("", content.Length, 0), b => content.Read(b));
            }
        });
        byte[] before = File.ReadAllBytes(bench.Root);
        Dictionary<string, byte[]> Read()
        {
            var found = new Dictionary<string, byte[]>();
            using var target = (DiskTarget)bench.Open();
            foreach (string name in target.Volume.List(PackageRoots.Usual.Packages / Demo.FullName("Northlight.Weather")).Where(Names.Contains))
            {
                using var file = target.Volume.OpenRead(PackageRoots.Usual.Packages / Demo.FullName("Northlight.Weather") / name)!;
                found[name] = FileContent.ReadAll(file);
            }
            return found;
        }
        Read().Count.ShouldBe(Names.Length);
        bench.Remove("Weather", "everyone");
        Read().ShouldBeEmpty();
        if (somethingElseWrote)
            Edit(bench.Root, volume => volume.Create(NtfsVolume.Root, "a note", isFolder: false));
        bench.Undo(1).Failures.ShouldBeEmpty();
        var back = Read();
        back.Keys.ShouldBe(Names, ignoreOrder: true);
        foreach (string name in Names)
            back[name].ShouldBe(Content(name));
        Tool.Read("ntfsfix", "-n", bench.Root).ShouldContain("processed successfully");
        File.ReadAllBytes(bench.Root).AsSpan().SequenceEqual(before).ShouldBe(!somethingElseWrote);
    }

    [Fact]
    public void A_disk_compares_names_by_its_own_capitals()
    {
        string path = Demo.CopyDiskTo(_folder);
        Edit(path, volume =>
        {
            foreach (string name in new[] { "\u10d0", "\U00010428", "\u00e4pfel", "Dune" })
                volume.Create(NtfsVolume.Root, name, isFolder: false);
            volume.Capitals.Fold("\u00e4\u00ff\u0131").ShouldBe("\u00c4\u0178\u0131", "the table that mkntfs writes");
        });
        using var target = DiskTarget.OpenDisk(path, new WriteInterceptor(), OpenOptions.Default);
        bool Has(string name) => target.Volume.Stat(WindowsPath.Root / name) is not null;
        Has("\u00c4PFEL").ShouldBeTrue();
        Has("dUNE").ShouldBeTrue();
        Has("\u10d0").ShouldBeTrue();
        Has("\u1c90").ShouldBeFalse("the capital that Unicode got later");
        Has("\U00010428").ShouldBeTrue();
        Has("\U00010400").ShouldBeFalse("halves of pairs have no capitals");
    }

    [Theory]
    [InlineData("volume")]
    [InlineData("disk")]
    [InlineData("image")]
    public void Nothing_is_brought_back_from_a_folder_with_twins(string kind)
    {
        var bench = kind switch
        {
            "disk" => new Bench(Demo.CopyDiskTo(_folder), _folder["vault"]),
            "image" => new Bench(Demo.CopyImageTo(_folder), _folder["vault"]),
            _ => new Bench(_folder, few: true),
        };
        var other = new Bench(Demo.CopyFewTo(_folder, "other"), _folder["other-vault"]);
        Directory.CreateDirectory(Path.Combine(other.Staged("Northlight.Weather"), "DATA"));
        Directory.CreateDirectory(Path.Combine(other.Staged("Northlight.Weather"), "data"));
        File.WriteAllText(Path.Combine(other.Staged("Northlight.Weather"), "DATA", "one"), "1");
        File.WriteAllText(Path.Combine(other.Staged("Northlight.Weather"), "data", "two"), "2");
        string who = kind == "image" ? "newcomers" : "everyone";
        bench.Remove("Weather", who);
        string State() => kind == "volume" ? VolumeState.Files(bench.Root) : Tool.Read("sha256sum", bench.Root);
        string before = State();
        var refused = Should.Throw<MoorfieldException>(() => bench.BringBack("Weather", who, other.Root));
        refused.Kind.ShouldBe(ErrorKind.Refused);
        refused.Message.ShouldContain("differ in case only");
        State().ShouldBe(before);
        bench.Points().Count.ShouldBe(1);
    }

    [Fact]
    public void An_attribute_whose_name_is_no_text_is_told_and_not_dropped()
    {
        using var onDisk = new TemporaryFolder();
        var bench = new Bench(Demo.CopyFewTo(onDisk), onDisk["vault"]);
        string file = Path.Combine(bench.Staged("Northlight.Weather"), "AppxManifest.xml");
        if (Tool.Run("sh", "-c", $"setfattr -n \"$(printf 'user.\\377')\" -v x '{file}'").ExitCode != 0)
            Assert.Skip("This file system takes no such attribute.");
        string before = VolumeState.Files(bench.Root);
        Should.Throw<MoorfieldException>(() => bench.Remove("Weather", "everyone")).Message.ShouldContain("cannot be recorded completely");
        VolumeState.Files(bench.Root).ShouldBe(before);
    }

    public void Dispose() => _folder.Dispose();
}
