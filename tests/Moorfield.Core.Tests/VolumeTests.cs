using CsCheck;
using Moorfield.Core.Model;
using Moorfield.Core.Storage;
using Moorfield.Core.Trees;
using Moorfield.Tests;

namespace Moorfield.Core.Tests;

public sealed class VolumeTests : IDisposable
{
    private readonly TemporaryFolder _folder = new();
    private readonly string _root;
    private readonly Dictionary<string, byte[]> _kept = [];

    public VolumeTests()
    {
        _root = _folder["volume"];
        Directory.CreateDirectory(_root);
    }

    private static PreparedContent Content(ReadOnlySpan<byte> after) => new(FileContent.InMemory([]), FileContent.InMemory(after));

    private WindowsVolume Open() => WindowsVolume.Open(_root, new WriteInterceptor());

    private string Keep(Microsoft.Win32.SafeHandles.SafeFileHandle file)
    {
        byte[] content = new byte[RandomAccess.GetLength(file)];
        RandomAccess.Read(file, content, 0);
        string hash = Convert.ToHexStringLower(System.Security.Cryptography.SHA256.HashData(content));
        _kept[hash] = content;
        return hash;
    }

    private static WindowsPath At(string path) => WindowsPath.Of(path);

    [Theory]
    [InlineData(@"C:\Users\ivy", @"Users\ivy")]
    [InlineData(@"c:/Users/ivy/", @"Users\ivy")]
    [InlineData(@"\\?\C:\Users\ivy", @"Users\ivy")]
    [InlineData(@"%SystemDrive%\Users\ivy", @"Users\ivy")]
    [InlineData(@"%systemroot%\System32", @"Windows\System32")]
    [InlineData(@"%ProgramFiles%\WindowsApps", @"Program Files\WindowsApps")]
    [InlineData("", "")]
    public void Paths_are_read_as_the_registry_writes_them(string text, string path) => WindowsPath.Parse(text)!.Value.ToString().ShouldBe(path);

    [Theory]
    [InlineData(@"C:\..\..\etc")]
    [InlineData(@"C:\Users\..\..\etc")]
    [InlineData(@"C:\Users\.\ivy")]
    [InlineData(@"D:\Users\ivy")]
    [InlineData(@"\\server\share\ivy")]
    [InlineData(@"C:\Users\ivy:stream")]
    [InlineData(@"C:\Users\\ivy")]
    [InlineData("C:\\Users\\iv\0y")]
    public void Paths_that_lead_elsewhere_are_not_read(string text) => WindowsPath.Parse(text).ShouldBeNull();

    [Fact]
    public void No_text_makes_a_path_that_leads_upwards() => Gen.String[Gen.Char["C:\\/.. aZ%"], 0, 30].Sample(text =>
        WindowsPath.Parse(text) is not { } path || path.Names.All(n => n is not ("." or ".." or "") && !n.Contains(':')));

    [Fact]
    public void Any_bytes_that_Linux_takes_as_a_name_survive_as_text() =>
        Gen.Byte[1, 255].Where(b => b != '/').Array[1, 60].Where(b => b is not [(byte)'.'] and not [(byte)'.', (byte)'.']).Sample(bytes =>
    {
        string text = UnixName.Decode(bytes);
        return !text.Contains('\\') && UnixName.Encode(text).AsSpan(0, UnixName.Encode(text).Length - 1).SequenceEqual(bytes);
    });

    [Fact]
    public void Files_are_found_whatever_their_case()
    {
        _folder.Write("volume/Program Files/Saltmarsh/Berths.TXT", "seven"u8);
        using var volume = Open();
        volume.Read(At(@"PROGRAM FILES\saltmarsh\berths.txt"), 100).ShouldBe("seven"u8.ToArray());
        volume.ActualCasing(At(@"PROGRAM FILES\saltmarsh\berths.txt\none")).ToString().ShouldBe(@"Program Files\Saltmarsh\Berths.TXT\none");
        volume.Stat(At(@"program files\saltmarsh\other")).ShouldBeNull();
    }

    [Fact]
    public void Of_two_names_that_differ_in_case_the_exact_one_is_meant()
    {
        _folder.Write("volume/a/Tide", "1"u8);
        _folder.Write("volume/a/tide", "2"u8);
        using var volume = Open();
        volume.Read(At(@"a\tide"), 10).ShouldBe("2"u8.ToArray());
        volume.Read(At(@"a\TIDE"), 10).ShouldBe("1"u8.ToArray());
    }

    [Fact]
    public void Links_are_never_followed()
    {
        _folder.Write("outside/secret", "secret"u8);
        Directory.CreateDirectory(_folder["volume/Users"]);
        File.CreateSymbolicLink(_folder["volume/Users/ivy"], _folder["outside"]);
        File.CreateSymbolicLink(_folder["volume/link"], _folder["outside/secret"]);
        using var volume = Open();
        volume.Read(At(@"Users\ivy\secret"), 100).ShouldBeNull();
        volume.Read(At("link"), 100).ShouldBeNull();
        volume.Stat(At("link"))!.Value.Kind.ShouldBe(EntryKind.Link);
        volume.List(At(@"Users\ivy")).ShouldBeEmpty();
        volume.TreeBytes(At("Users")).ShouldBe(0);
        Should.Throw<MoorfieldException>(() => volume.ReplaceContent(Content("x"u8), At("link")));
        volume.RemoveTree(At("Users"));
        File.ReadAllText(_folder["outside/secret"]).ShouldBe("secret");
        Directory.Exists(_folder["volume/Users"]).ShouldBeFalse();
    }

    [Fact]
    public void Replacing_content_keeps_the_file_itself()
    {
        string path = _folder.Write("volume/hive", new byte[100_000]);
        Tool.Read("chmod", "640", path);
        Tool.Read("setfattr", "-n", "user.note", "-v", "kept", path);
        string before = Tool.Read("stat", "-c", "%i %a %U", path);
        using (var volume = Open())
            volume.ReplaceContent(Content("short"u8), At("HIVE"));
        File.ReadAllText(path).ShouldBe("short");
        Tool.Read("stat", "-c", "%i %a %U", path).ShouldBe(before);
        Tool.Read("getfattr", "--only-values", "-n", "user.note", path).ShouldBe("kept");
    }

    [Fact]
    public void A_tree_comes_back_with_modes_times_attributes_links_and_odd_names()
    {
        string odd = _folder["volume/top/odd"];
        Directory.CreateDirectory(odd);
        _folder.Write("volume/top/a.dll", [1, 2, 3]);
        _folder.Write("volume/top/odd/a:b*?\"<>|", [4]);
        _folder.Write("volume/top/odd/back\\slash", [5]);
        Tool.Read("sh", "-c", "printf x > \"$0/$(printf 'caf\\351')\"", odd);
        Tool.Read("ln", "-s", "/nowhere/at all", _folder["volume/top/link"]);
        Tool.Read("chmod", "4751", _folder["volume/top/a.dll"]);
        Tool.Read("chmod", "700", odd);
        Tool.Read("setfattr", "-n", "user.stream", "-v", "text", _folder["volume/top/a.dll"]);
        Tool.Read("sh", "-c", "find \"$0\" -exec touch -h -d '1999-12-31 23:59:59.123456789' {} +", _root);
        string before = VolumeState.Files(_root);
        using var volume = Open();
        var image = volume.Record(At("TOP"), Keep, _ => { })!;
        volume.Compare(At("top"), image).ShouldBe(TreeState.Same);
        volume.RemoveTree(At("top"));
        volume.Compare(At("top"), image).ShouldBe(TreeState.Absent);
        volume.AddTree(At("top"), image, hash => new MemoryStream(_kept[hash])).ShouldBeEmpty();
        Tool.Read("touch", "-d", "1999-12-31 23:59:59.123456789", _root);
        VolumeState.Files(_root).ShouldBe(before);
    }

    [Fact]
    public void A_tree_that_is_there_in_part_is_completed()
    {
        for (int i = 0; i < 6; i++)
            _folder.Write($"volume/top/{i % 2}/{i}", [(byte)i]);
        string before = VolumeState.Files(_root);
        using var volume = Open();
        var image = volume.Record(At("top"), Keep, _ => { })!;
        File.Delete(_folder["volume/top/0/2"]);
        Directory.Delete(_folder["volume/top/1"], recursive: true);
        volume.Compare(At("top"), image).ShouldBe(TreeState.Partial);
        volume.AddTree(At("top"), image, hash => new MemoryStream(_kept[hash]));
        Tool.Read("touch", "-d", $"@{image.ParentModified.Seconds}.{image.ParentModified.Nanoseconds:D9}", _root);
        string after = VolumeState.Files(_root);
        after.Split('\n').Where(l => !l.StartsWith(".|", StringComparison.Ordinal))
            .ShouldBe(before.Split('\n').Where(l => !l.StartsWith(".|", StringComparison.Ordinal)));
    }

    [Fact]
    public void A_file_with_other_content_is_not_overwritten()
    {
        _folder.Write("volume/top/file", [1]);
        using var volume = Open();
        var image = volume.Record(At("top"), Keep, _ => { })!;
        _folder.Write("volume/top/file", [2]);
        volume.Compare(At("top"), image).ShouldBe(TreeState.Different);
        Should.Throw<MoorfieldException>(() => volume.AddTree(At("top"), image, hash => new MemoryStream(_kept[hash])));
        File.ReadAllBytes(_folder["volume/top/file"]).ShouldBe([2]);
    }

    [Fact]
    public void Paths_longer_than_Linux_takes_at_once_are_recorded_removed_and_added()
    {
        string name = new('n', 200);
        Tool.Read("sh", "-c", "cd \"$0\"; i=0; while [ $i -lt 40 ]; do mkdir \"$1\" && cd -P \"$1\" || exit 1; i=$((i+1)); done; printf deep > file",
            _root, name);
        using var volume = Open();
        var image = volume.Record(At(name), Keep, _ => { })!;
        image.Entries.Length.ShouldBe(41);
        volume.TreeBytes(At(name)).ShouldBe(4);
        volume.RemoveTree(At(name));
        Directory.EnumerateFileSystemEntries(_root).ShouldBeEmpty();
        volume.AddTree(At(name), image, hash => new MemoryStream(_kept[hash]));
        volume.Compare(At(name), image).ShouldBe(TreeState.Same);
    }

    [Fact]
    public void A_pipe_is_neither_opened_nor_recorded()
    {
        Directory.CreateDirectory(_folder["volume/top"]);
        Tool.Read("mkfifo", _folder["volume/top/pipe"]);
        using var volume = Open();
        volume.Read(At(@"top\pipe"), 10).ShouldBeNull();
        var lost = new List<MissingContent>();
        volume.Record(At("top"), Keep, lost.Add);
        lost.ShouldHaveSingleItem().Why.ShouldContain("pipe");
    }

    [Fact]
    public void A_volume_is_changed_by_one_run_at_a_time()
    {
        using var first = Open();
        using var second = Open();
        first.TryLock().ShouldBeTrue();
        second.TryLock().ShouldBeFalse();
        first.Dispose();
        second.TryLock().ShouldBeTrue();
    }

    [Theory]
    [InlineData("system.ntfs_reparse_data", "17000080", EntryKind.Link, "Windows compressed it")]
    [InlineData("system.ntfs_reparse_data", "13000080", EntryKind.File, "deduplicated")]
    [InlineData("system.ntfs_reparse_data", "1a000090", EntryKind.File, "0x9000001A")]
    [InlineData("system.ntfs_attrib_be", "00004020", EntryKind.File, "encrypted")]
    [InlineData("system.ntfs_attrib", "20400000", EntryKind.File, "encrypted")]
    [InlineData("system.ntfs_attrib_be", "00004010", EntryKind.Folder, null)]
    [InlineData("system.ntfs_attrib_be", "00000020", EntryKind.File, null)]
    [InlineData("system.ntfs_reparse_data", "0c0000a0", EntryKind.Link, null)]
    [InlineData("system.ntfs_reparse_data", "1b000080", EntryKind.File, null)]
    public void Content_that_a_mount_withholds_is_told_by_attributes(string attribute, string value, EntryKind kind, string? why)
    {
        string? found = InaccessibleData.Reason(kind, new Dictionary<string, byte[]> { [attribute] = Convert.FromHexString(value) });
        (found is null).ShouldBe(why is null);
        (found ?? "").ShouldContain(why ?? "");
    }

    public void Dispose() => _folder.Dispose();
}
