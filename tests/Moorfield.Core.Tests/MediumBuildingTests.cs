using Moorfield.Core.Images;
using Moorfield.Core.Model;
using Moorfield.Core.Operations;
using Moorfield.Core.Planning;
using Moorfield.Core.Selection;
using Moorfield.Core.Storage;
using Moorfield.Core.Targets;
using Moorfield.Formats.Media;
using Moorfield.Tests;

namespace Moorfield.Core.Tests;

/// <summary>Building media, failed at each of its writes.</summary>
public sealed class MediumBuildingTests : IDisposable
{
    private readonly TemporaryFolder _folder = new(inMemory: true);
    private readonly string _iso;

    public MediumBuildingTests()
    {
        string image = Demo.CopyImageTo(_folder);
        MediumSource.Enlarge(_folder, image);
        _iso = MediumSource.Make(_folder, MediumSource.Tree(_folder, image), plain: true);
    }

    public void Dispose() => _folder.Dispose();

    private MediaBuildResult Build(WriteInterceptor interceptor, string output, Action<WorkProgress>? tell = null, long? part = null)
    {
        using var source = (ImageTarget)Target.Open(_iso, new WriteInterceptor());
        var making = new MediaImageBuilder(source, image => new RemovalOperation(image, image.Read([1]), [],
            systems => systems.Select(s =>
            new RemovalRequest(PackageSelector.Find(["Weather"], [s]).Single(), AudienceParser.Parse(["newcomers"], s)))))
        { Only = [1, 3], Part = part };
        return new MediaBuilder(source, output, making) { Label = "COUNTERS", Replaces = true }
            .Build(interceptor, TimeProvider.System, tell ?? (_ => { }), default);
    }

    [Theory]
    [InlineData(null)]
    [InlineData(1L << 20)]
    public void A_failure_at_any_write_leaves_what_was_there(long? part)
    {
        var kinds = new List<WriteKind>();
        string whole = _folder["whole.iso"];
        Build(new WriteInterceptor((kind, _) => kinds.Add(kind)), whole, part: part);
        // Once the result has its name and that is flushed, only what was under way is taken away.
        int steps = kinds.LastIndexOf(WriteKind.Rename) + 2;
        steps.ShouldBeGreaterThan(20);
        byte[] source = File.ReadAllBytes(_iso);
        string output = _folder.Write("old.iso", "what was there"u8);
        string[] before = [.. Directory.GetFileSystemEntries(_folder.Path).Order()];
        var failing = Enumerable.Range(0, steps).Where(s => s < 10 || s > steps - 8 || s % (Thorough.EveryStep ? 12 : 36) == 0).ToList();
        foreach (int step in failing)
        {
            int left = step;
            Should.Throw<IOException>(() => Build(new WriteInterceptor((_, _) =>
            {
                if (left-- == 0)
                    throw new IOException("out of room");
            }), output, part: part));
            // The name is the last thing but one: what is behind that is only flushed.
            if (step < steps - 1)
                File.ReadAllText(output).ShouldBe("what was there");
            Directory.GetFileSystemEntries(_folder.Path).Order().ShouldBe(before);
        }
        File.ReadAllBytes(_iso).ShouldBe(source);
        File.ReadAllBytes(output).Length.ShouldBe(File.ReadAllBytes(whole).Length);
    }

    [Theory]
    [InlineData(0, false)]
    [InlineData(-1, true)]
    [InlineData(1, true)]
    public void A_result_whose_image_has_another_length_is_found_out(int more, bool isFound)
    {
        using var file = File.OpenHandle(_iso);
        var medium = Medium.Read(file);
        var image = medium.Find("sources/install.wim").ShouldNotBeNull();
        byte[] content = new byte[image.Size];
        RandomAccess.Read(file, content, image.Whole!.Value.Offset);
        byte[] wanted = more < 0 ? content[..^1] : more > 0 ? [.. content, 0] : content;
        var contents = new Dictionary<string, Action<Stream>> { [image.Path] = stream => stream.Write(wanted) };
        var failure = Record.Exception(() => new MediaComparer(medium, file, "counters.iso", _ => { }).Check(file, image, image.Path, contents));
        (failure is MoorfieldException && failure.Message.Contains("is another", StringComparison.Ordinal)).ShouldBe(isFound, $"{failure}");
    }

    [Fact]
    public void A_source_that_changes_meanwhile_is_found_out()
    {
        bool touched = false;
        var error = Should.Throw<MoorfieldException>(() => Build(new WriteInterceptor(), _folder["out.iso"], state =>
        {
            if (state.Step != "Reading it back" || touched)
                return;
            touched = true;
            File.SetLastWriteTimeUtc(_iso, DateTime.UtcNow.AddMinutes(1));
        }));
        error.Message.ShouldContain("changed by something else meanwhile");
        File.Exists(_folder["out.iso"]).ShouldBeFalse();
    }

    [Fact]
    public void What_is_read_back_otherwise_is_found_out()
    {
        foreach (string file in new[] { "setup.exe", "sources/install.wim", "boot/etfsboot.com" })
        {
            bool spoilt = false;
            var error = Should.Throw<MoorfieldException>(() => Build(new WriteInterceptor(), _folder["out.iso"], state =>
            {
                if (state.Step != "Reading it back" || spoilt)
                    return;
                spoilt = true;
                using var written = File.OpenHandle(
                    Path.Combine(Directory.GetDirectories(_folder.Path, ".out.iso.moorfield-build-*").Single(), "medium.iso"), FileMode.Open,
                    FileAccess.ReadWrite, FileShare.ReadWrite);
                var place = Medium.Read(written).Find(file)!.Whole!.Value;
                RandomAccess.Write(written, [1, 2, 3, 4, 5, 6, 7, 8, 9], place.Offset + (place.Length / 2));
            }));
            error.Message.ShouldContain($"{file} is another");
            File.Exists(_folder["out.iso"]).ShouldBeFalse();
        }
    }

    [Fact]
    public void Progress_goes_over_the_whole_and_never_back()
    {
        var states = new List<WorkProgress>();
        Build(new WriteInterceptor(), _folder["out.iso"], states.Add, part: 1 << 20);
        states.Select(s => s.Step).Distinct().ShouldBe(["Removing packages", "Splitting the image", "Writing the medium", "Reading it back"]);
        states.Select(s => s.Done).ShouldBe(states.Select(s => s.Done).Order());
        states[^1].Done.ShouldBeGreaterThan(0.95);
    }
}
