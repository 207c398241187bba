using Moorfield.Core.Model;
using Moorfield.Core.Storage;
using Moorfield.Tests;

namespace Moorfield.Core.Tests;

/// <summary>Bringing packages back where there is little room.</summary>
public sealed class BringBackRoomTests : IDisposable
{
    private readonly TemporaryFolder _folder = new(inMemory: true);

    [Fact]
    public void A_folder_that_fills_up_in_the_middle_is_what_it_was()
    {
        var bench = new Bench(_folder, few: true);
        string other = Demo.CopyFewTo(_folder, "other");
        bench.Remove("Weather,Calculator", "everyone");
        string before = VolumeState.Files(bench.Root);
        int writes = 0, cut = 0;
        for (int step = 1; ; step += 3)
        {
            int left = step;
            var error = Record.Exception(() => bench.BringBack("Weather,Calculator", "everyone", other, new WriteInterceptor((kind, name) =>
            {
                if (kind == WriteKind.Write && name.Contains("WindowsApps", StringComparison.Ordinal) && ++writes > 0 && --left == 0)
                    throw new MoorfieldException(ErrorKind.Failed, $"{name}: No space left on device.");
            })));
            if (error is null)
                break;
            cut++;
            error.ShouldBeOfType<MoorfieldException>().Message.ShouldContain("Nothing was changed");
            VolumeState.Files(bench.Root).ShouldBe(before, $"write {step}");
            bench.Points().Count.ShouldBe(1);
        }
        cut.ShouldBeGreaterThan(3);
        bench.Read().Packages.ShouldContain(p => p.DisplayName == "Weather");
    }

    [Fact]
    public void Room_is_looked_at_before_anything_is_written()
    {
        string place = Directory.CreateDirectory(_folder["small"]).FullName;
        string source = Demo.CopyFewTo(_folder, "source");
        long size = long.Parse(Tool.Read("du", "-sk", source).Split('\t')[0], System.Globalization.CultureInfo.InvariantCulture);
        if (Tool.Run("mount", "-t", "tmpfs", "-o", $"size={size + 200}k", "tmpfs", place).ExitCode != 0)
            Assert.Skip("This machine lets nobody mount.");
        try
        {
            Tool.Read("cp", "-a", source, Path.Combine(place, "counter-07"));
            var bench = new Bench(Path.Combine(place, "counter-07"), _folder["vault"]);
            bench.Remove("Weather", "everyone");
            long free = new DriveInfo(place).AvailableFreeSpace;
            using (var filler = File.Create(Path.Combine(place, "filler")))
                filler.Write(new byte[free - 50_000]);
            string before = VolumeState.Files(bench.Root);
            var refused = Should.Throw<MoorfieldException>(() => bench.BringBack("Weather", "everyone", source));
            refused.Kind.ShouldBe(ErrorKind.Refused);
            refused.Message.ShouldContain("left, and what comes back needs");
            VolumeState.Files(bench.Root).ShouldBe(before);
            bench.Points().Count.ShouldBe(1);
        }
        finally
        {
            Tool.Run("umount", place);
        }
    }

    [Fact]
    public void A_file_with_holes_comes_back_with_them()
    {
        const long Size = 64L << 20;
        using var onDisk = new TemporaryFolder();
        var bench = new Bench(Demo.CopyFewTo(onDisk), onDisk["vault"]);
        var other = new Bench(Demo.CopyFewTo(onDisk, "other"), onDisk["other-vault"]);
        string file = Path.Combine(other.Staged("Northlight.Weather"), "holes.dat");
        using (var sparse = File.Create(file))
        {
            sparse.SetLength(Size);
            sparse.Position = 30 << 20;
            sparse.Write("in the middle"u8);
        }
        bench.Remove("Weather", "everyone");
        bench.BringBack("Weather", "everyone", other.Root).Failures.ShouldBeEmpty();
        string back = Path.Combine(bench.Staged("Northlight.Weather"), "holes.dat");
        Tool.Run("cmp", file, back).ExitCode.ShouldBe(0);
        Blocks(back).ShouldBeLessThan(1 << 20);
        // And by an undo as well.
        bench.Remove("Weather", "everyone");
        bench.Undo(3).Failures.ShouldBeEmpty();
        Tool.Run("cmp", file, back).ExitCode.ShouldBe(0);
        Blocks(back).ShouldBeLessThan(1 << 20);

        static long Blocks(string path) =>
            512 * long.Parse(Tool.Read("stat", "-c", "%b", path).Trim(), System.Globalization.CultureInfo.InvariantCulture);
    }

    public void Dispose() => _folder.Dispose();
}
