using System.Collections.Immutable;
using Moorfield.Core.Images;
using Moorfield.Core.Model;
using Moorfield.Core.Operations;
using Moorfield.Core.Storage;
using Moorfield.Core.Targets;
using Moorfield.Tests;

namespace Moorfield.Core.Tests;

/// <summary>Folders and files that are made on the way to a result: nothing of anybody else is touched.</summary>
public sealed class WorkFolderTests : IDisposable
{
    private const string Left = ".result.moorfield-build-00112233445566778899aabbccddeeff";
    private readonly TemporaryFolder _folder = new(inMemory: true);

    private string Precious(string name)
    {
        _folder.Write($"{name}/precious.txt", "a person's own"u8);
        return _folder[name];
    }

    private void IsThere(string name) => File.ReadAllText(_folder[$"{name}/precious.txt"]).ShouldBe("a person's own");

    [Fact]
    public void What_has_a_like_name_is_not_touched_and_links_are_not_followed()
    {
        Precious("elsewhere");
        Precious(".result.moorfield-build");
        Precious(".result.moorfield-build-by-hand");
        Directory.CreateSymbolicLink(_folder[Left], _folder["elsewhere"]);
        using (var work = new WorkFolder(_folder.Path, ".result.moorfield-build", new WriteInterceptor()))
        {
            Path.GetFileName(work.FullPath).Length.ShouldBe(Left.Length);
            File.WriteAllText(Path.Combine(work.FullPath, "half"), "half");
        }
        IsThere("elsewhere");
        IsThere(".result.moorfield-build");
        IsThere(".result.moorfield-build-by-hand");
        Directory.GetFileSystemEntries(_folder.Path).Length.ShouldBe(4);
        new DirectoryInfo(_folder[Left]).LinkTarget.ShouldBe(_folder["elsewhere"]);
    }

    [Fact]
    public void What_an_interrupted_run_left_goes_and_one_at_work_is_left_alone()
    {
        Precious(Left);
        new WorkFolder(_folder.Path, ".result.moorfield-build", new WriteInterceptor()).Dispose();
        Directory.Exists(_folder[Left]).ShouldBeFalse();
        using var first = new WorkFolder(_folder.Path, ".result.moorfield-build", new WriteInterceptor());
        Should.Throw<MoorfieldException>(() => new WorkFolder(_folder.Path, ".result.moorfield-build", new WriteInterceptor()))
            .Message.ShouldContain("Another run is at work");
        Directory.Exists(first.FullPath).ShouldBeTrue();
        using var other = new WorkFolder(_folder.Path, ".other.moorfield-build", new WriteInterceptor());
    }

    [Fact]
    public void A_link_inside_of_it_goes_and_what_it_leads_to_stays()
    {
        Precious("elsewhere");
        using (var work = new WorkFolder(_folder.Path, ".result.moorfield-build", new WriteInterceptor()))
            Directory.CreateSymbolicLink(Path.Combine(work.FullPath, "link"), _folder["elsewhere"]);
        IsThere("elsewhere");
    }

    [Fact]
    public void A_result_that_is_there_by_now_is_not_replaced()
    {
        Should.Throw<MoorfieldException>(() => NewFile.Write(_folder["result"], new WriteInterceptor(), part =>
        {
            File.WriteAllText(part, "new");
            File.WriteAllText(_folder["result"], "somebody was faster");
        })).Kind.ShouldBe(ErrorKind.InvalidUsage);
        File.ReadAllText(_folder["result"]).ShouldBe("somebody was faster");
        Directory.GetFileSystemEntries(_folder.Path).ShouldHaveSingleItem();
    }

    [Fact]
    public void A_split_that_is_cut_off_leaves_no_set_that_reads_as_whole()
    {
        string image = Demo.CopyImageTo(_folder);
        MediumSource.Enlarge(_folder, image);
        string[] before = [.. Directory.GetFileSystemEntries(_folder.Path).Order()];
        string first = _folder["parts.swm"];
        int renames = 0;
        ImmutableArray<string> Split(WriteInterceptor interceptor) =>
            ImageExport.Split(image, "image", first, 1 << 20, interceptor, (_, _) => { }, default);
        Split(new WriteInterceptor((kind, _) => renames += kind == WriteKind.Rename ? 1 : 0)).Length.ShouldBe(renames);
        renames.ShouldBeGreaterThan(2);
        Tool.Read("sh", "-c", $"rm {_folder.Path}/parts*.swm");
        for (int step = 1; step <= renames; step++)
        {
            int left = step;
            Should.Throw<PowerCut>(() => Split(new WriteInterceptor((kind, _) =>
            {
                if (kind == WriteKind.Rename && --left == 0)
                    throw new PowerCut();
            })));
            File.Exists(first).ShouldBeFalse($"rename {step} of {renames}");
            Tool.Read("sh", "-c", $"rm -rf {_folder.Path}/parts*.swm");
        }
        // One that fails takes back what was moved.
        int failing = renames;
        Should.Throw<MoorfieldException>(() => Split(new WriteInterceptor((kind, name) =>
        {
            if (kind == WriteKind.Rename && --failing == 0)
                throw new MoorfieldException(ErrorKind.Failed, $"{name}: No space left on device.");
        })));
        Directory.GetFileSystemEntries(_folder.Path).Where(f => !f.Contains("moorfield-build", StringComparison.Ordinal)).Order().ShouldBe(before);
    }

    [Fact]
    public void A_folder_of_a_medium_that_fails_while_files_move_out_gets_none_of_them()
    {
        string iso = MediumSource.Make(_folder, MediumSource.Tree(_folder, Demo.CopyImageTo(_folder)), plain: true);
        string stick = Directory.CreateDirectory(_folder["stick"]).FullName;
        File.WriteAllText(Path.Combine(stick, "letter.txt"), "a person's own");
        using var source = (ImageTarget)Target.Open(iso, new WriteInterceptor());
        int renames = 0;
        Should.Throw<MoorfieldException>(() => new MediaUnpacker(source, stick) { Making = new MediaImageBuilder(source, null) }.Unpack(
            new WriteInterceptor((kind, name) =>
            {
                if (kind == WriteKind.Rename && ++renames == 4)
                    throw new MoorfieldException(ErrorKind.Failed, $"{name}: Input/output error.");
            }), TimeProvider.System, _ => { }, default)).Message.ShouldContain("Input/output error");
        renames.ShouldBeGreaterThan(4);
        Directory.GetFileSystemEntries(stick).ShouldHaveSingleItem().ShouldEndWith("letter.txt");
    }

    [Fact]
    public void A_label_that_cannot_be_written_whole_is_taken_back()
    {
        string iso = MediumSource.Make(_folder, MediumSource.Tree(_folder, Demo.CopyImageTo(_folder)), plain: false);
        byte[] before = File.ReadAllBytes(iso);
        int writes = 0;
        using (var source = (ImageTarget)Target.Open(iso, new WriteInterceptor()))
            MediaBuilder.Relabel(source, "OTHER");
        byte[] after = File.ReadAllBytes(iso);
        after.AsSpan().SequenceEqual(before).ShouldBeFalse();
        File.WriteAllBytes(iso, before);
        var failing = new WriteInterceptor((kind, name) =>
        {
            if (kind == WriteKind.Write && name == iso && ++writes == 4)
                throw new MoorfieldException(ErrorKind.Failed, $"{name}: No space left on device.");
        });
        using (var source = (ImageTarget)Target.Open(iso, failing))
            Should.Throw<MoorfieldException>(() => MediaBuilder.Relabel(source, "OTHER")).Message.ShouldContain("No space left");
        File.ReadAllBytes(iso).AsSpan().SequenceEqual(before).ShouldBeTrue();
        // Nobody else writes to it meanwhile.
        using var holder = (ImageTarget)Target.Open(iso, new WriteInterceptor());
        holder.Image.TryLock().ShouldBeTrue();
        using var second = (ImageTarget)Target.Open(iso, new WriteInterceptor());
        Should.Throw<MoorfieldException>(() => MediaBuilder.Relabel(second, "OTHER")).Message.ShouldContain("another run");
        File.ReadAllBytes(iso).AsSpan().SequenceEqual(before).ShouldBeTrue();
    }

    [Theory]
    [InlineData("mkfifo PATH", "a pipe")]
    [InlineData("mknod PATH c 1 3", "a character device")]
    [InlineData("mkdir PATH", "a folder")]
    [InlineData("ln -s /nonexistent PATH", "a link")]
    public void Only_a_regular_file_is_replaced(string make, string kind)
    {
        string iso = MediumSource.Make(_folder, MediumSource.Tree(_folder, Demo.CopyImageTo(_folder)), plain: true);
        string output = _folder["out.iso"];
        if (Tool.Run("sh", "-c", make.Replace("PATH", output, StringComparison.Ordinal)).ExitCode != 0)
            Assert.Skip("This machine lets nobody make devices.");
        using var source = (ImageTarget)Target.Open(iso, new WriteInterceptor());
        var building = new MediaBuilder(source, output, new MediaImageBuilder(source, null)) { Label = "OTHER", Replaces = true };
        Should.Throw<MoorfieldException>(() => building.Check()).Message.ShouldContain(kind);
        RegularFile.KindOf(output, followsLinks: false).ShouldBe(kind);
    }

    [Fact]
    public void A_file_that_is_added_must_be_a_file()
    {
        string iso = MediumSource.Make(_folder, MediumSource.Tree(_folder, Demo.CopyImageTo(_folder)), plain: true);
        Tool.Read("mkfifo", _folder["pipe"]);
        using var source = (ImageTarget)Target.Open(iso, new WriteInterceptor());
        foreach (string file in new[] { _folder["pipe"], "/dev/zero", _folder.Path })
        {
            var building = new MediaBuilder(source, _folder["out.iso"], new MediaImageBuilder(source, null))
            {
                Added = [new MediaFile(file, "x")],
            };
            Should.Throw<MoorfieldException>(() => building.Check()).Message.ShouldContain("Name a file");
        }
    }

    public void Dispose() => _folder.Dispose();
}
