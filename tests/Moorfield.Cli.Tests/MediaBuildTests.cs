using System.Security.Cryptography;
using System.Text.Json.Nodes;
using Moorfield.Tests;

namespace Moorfield.Cli.Tests;

/// <summary>Media that are built from others.</summary>
public sealed class MediaBuildTests : CliTest
{
    private readonly string _iso;
    private readonly string _image;

    public MediaBuildTests()
    {
        _image = Demo.CopyImageTo(Folder);
        _iso = MediumSource.Make(Folder, MediumSource.Tree(Folder, _image), plain: true);
    }

    [Fact]
    public void A_medium_is_built_without_packages_and_is_what_it_says()
    {
        byte[] before = File.ReadAllBytes(_iso);
        string to = Folder["counters.iso"];
        var preview = Run("media", "build", _iso, "Weather", "Calculator", "--to", to, "--label", "COUNTERS", "--preview");
        preview.ExitCode.ShouldBe(0, preview.Error);
        preview.Output.ShouldContain("The label will be 'COUNTERS'; medium.iso has 'SALTMARSH_X64'.");
        File.Exists(to).ShouldBeFalse();
        var outcome = Run("media", "build", _iso, "Weather", "Calculator", "--to", to, "--label", "COUNTERS", "--yes", "--accept-costs");
        outcome.ExitCode.ShouldBe(0, outcome.Error);
        File.ReadAllBytes(_iso).ShouldBe(before);
        outcome.Output.ShouldContain($"SHA-256 {Convert.ToHexStringLower(SHA256.HashData(File.ReadAllBytes(to)))}");
        new FileInfo(to).Length.ShouldBeLessThan(before.Length);
        Run("image", "list", to).Output.ShouldContain("'COUNTERS'");
        // The image on it is what the same removal and compacting make of the image alone.
        Run("remove", _image, "Weather", "Calculator", "--yes", "--accept-costs", "--without-restore-point").ExitCode.ShouldBe(0);
        Run("compare", to, _image).Output.ShouldContain("Nothing differs.");
        Tool.Read("7zz", "x", "-y", $"-o{Folder["out"]}", to);
        Tool.Read("wimlib-imagex", "verify", Folder["out/sources/install.wim"]);
        foreach (string file in Directory.GetFiles(Folder["tree"], "*", SearchOption.AllDirectories))
        {
            string path = Path.GetRelativePath(Folder["tree"], file);
            if (path != "sources/install.wim")
                File.ReadAllBytes(Path.Combine(Folder["out"], path)).ShouldBe(File.ReadAllBytes(file), path);
        }
        Directory.GetFileSystemEntries(Folder.Path, ".*moorfield-build").ShouldBeEmpty();
        Run("compare", _iso, to).Output.ShouldContain("Weather");
    }

    [Fact]
    public void Without_packages_only_the_label_changes()
    {
        string to = Folder["label.iso"];
        var outcome = Run("media", "build", _iso, "--to", to, "--label", "OTHER", "--yes", "--format", "json");
        outcome.ExitCode.ShouldBe(0, outcome.Error);
        ((string)JsonNode.Parse(outcome.Output)!["sha256"]!).ShouldBe(Convert.ToHexStringLower(SHA256.HashData(File.ReadAllBytes(to))));
        new FileInfo(to).Length.ShouldBe(new FileInfo(_iso).Length);
        Run("compare", _iso, to).Output.ShouldContain("Nothing differs.");
        byte[] built = File.ReadAllBytes(to);
        outcome = Run("media", "build", _iso, "--to", to, "--label", "OTHER", "--without-sha256", "--replace", "--yes");
        outcome.ExitCode.ShouldBe(0, outcome.Error);
        outcome.Output.ShouldNotContain("SHA-256");
        File.ReadAllBytes(to).ShouldBe(built);
        Run("media", "build", _iso, "--to", Folder["no.iso"], "--yes").ExitCode.ShouldBe(2);
        Run("media", "build", _iso, "--to", Folder["no.iso"], "--label", new string('X', 40), "--yes")
            .Error.ShouldContain("A label has 1 to 32 letters");
        File.Exists(Folder["no.iso"]).ShouldBeFalse();
    }

    [Fact]
    public void Only_some_editions_can_be_kept_with_packages_or_without()
    {
        string to = Folder["some.iso"];
        var outcome = Run("media", "build", _iso, "--to", to, "--edition", "2", "--edition", "3", "--only-editions", "--yes");
        outcome.ExitCode.ShouldBe(0, outcome.Error);
        outcome.Output.ShouldContain("2 (Counter Pro) and 3 (Counter Office) stay, as numbers 1 to 2; the others go.");
        Run("image", "list", to, "--format", "csv").Output.ShouldContain("1,Counter Pro");
        outcome = Run("media", "build", _iso, "Weather", "--to", to, "--edition", "Counter Pro", "--only-editions", "--yes", "--accept-costs",
            "--replace");
        outcome.ExitCode.ShouldBe(0, outcome.Error);
        Run("inventory", to).Output.ShouldNotContain("Weather");
        Tool.Read("7zz", "x", "-y", $"-o{Folder["out"]}", to);
        Tool.Read("wimlib-imagex", "verify", Folder["out/sources/install.wim"]);
        Run("media", "build", _iso, "Weather", "--to", Folder["no.iso"], "--only-editions", "--yes").ExitCode.ShouldBe(2);
    }

    [Fact]
    public void A_label_is_written_in_place_and_back()
    {
        byte[] before = File.ReadAllBytes(_iso);
        var changed = Run("media", "label", _iso, "COUNTERS_2026", "--yes");
        changed.Output.ShouldContain("it was 'SALTMARSH_X64'", Case.Sensitive, changed.Error);
        Run("image", "list", _iso).Output.ShouldContain("'COUNTERS_2026'");
        Tool.Read("isoinfo", "-d", "-i", _iso).ShouldContain("Volume id: COUNTERS_2026");
        Run("media", "label", _iso, new string('X', 33), "--yes").ExitCode.ShouldBe(2);
        Run("media", "label", _iso, MediumSource.Label, "--yes").ExitCode.ShouldBe(0);
        File.ReadAllBytes(_iso).ShouldBe(before);
        Run("media", "label", _iso, MediumSource.Label, "--yes").Error.ShouldContain("has the label 'SALTMARSH_X64' already");
        Run("media", "label", _image, "X", "--yes").ExitCode.ShouldBe(2);
    }

    [Fact]
    public void What_is_there_already_or_is_the_source_is_not_written()
    {
        byte[] before = File.ReadAllBytes(_iso);
        string to = Folder.Write("there.iso", "something"u8);
        Run("media", "build", _iso, "Weather", "--to", to, "--yes", "--accept-costs").Error.ShouldContain("add --replace");
        File.ReadAllText(to).ShouldBe("something");
        Run("media", "build", _iso, "Weather", "--to", _iso, "--yes", "--accept-costs", "--replace").Error.ShouldContain("is the source itself");
        File.CreateSymbolicLink(Folder["link.iso"], _iso);
        Run("media", "build", Folder["link.iso"], "Weather", "--to", _iso, "--yes", "--accept-costs", "--replace").ExitCode.ShouldBe(2);
        File.ReadAllBytes(_iso).ShouldBe(before);
        Run("media", "build", _iso, "Weather", "--to", to, "--yes", "--accept-costs", "--replace").ExitCode.ShouldBe(0);
        Run("image", "list", to).ExitCode.ShouldBe(0);
        Run("media", "build", _image, "Weather", "--to", Folder["x.iso"], "--yes").Error.ShouldContain("takes an ISO");
    }

    [Theory]
    [InlineData("pwrite64:error=ENOSPC:when=3+")]
    [InlineData("renameat:error=ENOSPC:when=1")]
    [InlineData("fsync:signal=KILL:when=1")]
    [InlineData("renameat:signal=KILL:when=1")]
    public void What_is_cut_off_leaves_nothing_under_the_name(string injection)
    {
        byte[] before = File.ReadAllBytes(_iso);
        string to = Folder["cut.iso"];
        var outcome = RunInjected(injection, "media", "build", _iso, "Weather", "--to", to, "--yes", "--accept-costs");
        outcome.ExitCode.ShouldNotBe(0);
        File.Exists(to).ShouldBeFalse();
        File.ReadAllBytes(_iso).ShouldBe(before);
        Run("media", "build", _iso, "Weather", "--to", to, "--yes", "--accept-costs").ExitCode.ShouldBe(0);
        Directory.GetFileSystemEntries(Folder.Path, ".*moorfield-build").ShouldBeEmpty();
    }

    [Fact]
    public void Another_run_that_builds_the_same_is_left_alone()
    {
        string work = Folder[".same.iso.moorfield-build-00112233445566778899aabbccddeeff"], locked = Folder["locked"];
        Directory.CreateDirectory(work);
        File.WriteAllText(Path.Combine(work, "medium.iso"), "half of it");
        using (var run = System.Diagnostics.Process.Start("flock", ["-x", Path.Combine(work, "lock"), "sh", "-c", $"touch '{locked}'; sleep 60"]))
        {
            SpinWait.SpinUntil(() => File.Exists(locked), 10_000).ShouldBeTrue();
            var outcome = Run("media", "build", _iso, "--to", Folder["same.iso"], "--label", "X", "--yes");
            outcome.ExitCode.ShouldBe(5);
            outcome.Error.ShouldContain("Another run is at work");
            File.ReadAllText(Path.Combine(work, "medium.iso")).ShouldBe("half of it");
            run.Kill(entireProcessTree: true);
            run.WaitForExit();
        }
        Run("media", "build", _iso, "--to", Folder["same.iso"], "--label", "X", "--yes").ExitCode.ShouldBe(0);
        Directory.Exists(work).ShouldBeFalse();
    }

    [Theory]
    [InlineData(true)]
    [InlineData(false)]
    public void Files_are_added_and_the_image_is_split(bool plain)
    {
        MediumSource.Enlarge(Folder, _image);
        string tree = Folder["tree"];
        File.Copy(_image, Path.Combine(tree, "sources/install.wim"), overwrite: true);
        string iso = MediumSource.Make(Folder, tree, plain, "shape.iso");
        string answers = Folder.Write("answers=1.xml", "<answers/>"u8);
        string to = Folder["stick.iso"];
        var outcome = Run("media", "build", iso, "Weather", "--to", to, "--split", "--part", "1", "--add", $"{answers}=answers.xml", "--add",
            $"{answers}=sources/$OEM$/$$/Setup/Scripts/first.cmd", "--yes", "--accept-costs");
        outcome.ExitCode.ShouldBe(0, outcome.Error);
        outcome.Output.ShouldContain("(10 B) is added as answers.xml.");
        var list = Run("image", "list", to);
        list.Output.ShouldContain("Image        sources/install.swm");
        list.Output.ShouldContain("Split        in ");
        Run("remove", _image, "Weather", "--yes", "--accept-costs", "--without-restore-point").ExitCode.ShouldBe(0);
        Run("compare", to, _image).Output.ShouldContain("Nothing differs.");
        Run("media", "build", to, "Calculator", "--to", Folder["no.iso"], "--yes", "--accept-costs").Error.ShouldContain("install image in parts");
        Run("media", "build", to, "--label", "AGAIN", "--to", Folder["again.iso"], "--yes").ExitCode.ShouldBe(0);
        Run("compare", Folder["again.iso"], _image).Output.ShouldContain("Nothing differs.");
        Tool.Read("7zz", "x", "-y", $"-o{Folder["out"]}", to);
        File.ReadAllText(Folder["out/sources/$OEM$/$$/Setup/Scripts/first.cmd"]).ShouldBe("<answers/>");
        Tool.Read("wimlib-imagex", "verify", Folder["out/sources/install.swm"], $"--ref={Folder["out/sources/install*.swm"]}");
        File.Exists(Folder["out/sources/install.wim"]).ShouldBeFalse();
        // What 7z took out is a target as well.
        Run("compare", Folder["out"], _image).Output.ShouldContain("Nothing differs.");
        Run("image", "join", Folder["out/sources/install.swm"], "--to", Folder["joined.wim"]).ExitCode.ShouldBe(0);
        Run("compare", Folder["joined.wim"], _image).Output.ShouldContain("Nothing differs.");
        File.Delete(Folder["out/sources/install3.swm"]);
        Run("inventory", Folder["out"]).ExitCode.ShouldBe(1);
    }

    [Fact]
    public void What_cannot_be_added_is_told_before_anything_is_written()
    {
        string file = Folder.Write("a.txt", "a"u8);
        foreach (var (add, error) in new[] { ("a.txt", "no FILE=PATH"), ($"{file}=setup.exe", "on the medium already"),
            ($"{file}=../a", "not a path for"), ($"{Folder["none"]}=a.txt", "There is no file") })
        {
            var outcome = Run("media", "build", _iso, "--to", Folder["no.iso"], "--add", add, "--yes");
            outcome.ExitCode.ShouldBe(2);
            outcome.Error.ShouldContain(error);
        }
        Run("media", "build", _iso, "--to", Folder["no.iso"], "--split", "--part", "0", "--yes").ExitCode.ShouldBe(2);
        File.Exists(Folder["no.iso"]).ShouldBeFalse();
    }

    [Fact]
    public void The_files_of_a_medium_go_into_a_folder_whole_or_in_parts()
    {
        string stick = Folder["stick"];
        var outcome = Run("media", "folder", _iso, "--to", stick);
        outcome.ExitCode.ShouldBe(0, outcome.Error);
        Tool.Read("diff", "-r", "--exclude=boot.cat", Folder["tree"], stick);
        Directory.GetFileSystemEntries(stick, ".moor*").ShouldBeEmpty();
        Run("media", "folder", _iso, "--to", stick).Error.ShouldContain("already. Name another folder");
        Run("media", "folder", _iso, "--to", Folder["none/stick"]).ExitCode.ShouldBe(2);
        Run("media", "folder", _image, "--to", Folder["other"]).Error.ShouldContain("takes an ISO");
        Directory.CreateDirectory(Folder["parts/System Volume Information"]);
        MediumSource.Enlarge(Folder, _image);
        File.Copy(_image, Folder["tree/sources/install.wim"], overwrite: true);
        string large = MediumSource.Make(Folder, Folder["tree"], plain: true, "large.iso");
        outcome = Run("media", "folder", large, "--to", Folder["parts"], "--part", "1");
        outcome.ExitCode.ShouldBe(0, outcome.Error);
        outcome.Output.ShouldContain("the image in ");
        Tool.Read("wimlib-imagex", "verify", Folder["parts/sources/install.swm"], $"--ref={Folder["parts/sources/install*.swm"]}");
        File.Exists(Folder["parts/sources/install.wim"]).ShouldBeFalse();
        Run("compare", Folder["parts"], _image).Output.ShouldContain("Nothing differs.");
        Run("media", "folder", large, "--to", Folder["whole"], "--part", "1", "--whole").ExitCode.ShouldBe(0);
        File.Exists(Folder["whole/sources/install.wim"]).ShouldBeTrue();
    }

    [Theory]
    [InlineData("pwrite64:error=ENOSPC:when=20+")]
    [InlineData("fsync:signal=KILL:when=3")]
    public void A_folder_that_was_cut_off_gets_nothing_under_its_names(string injection)
    {
        RunInjected(injection, "media", "folder", _iso, "--to", Folder["cut"]).ExitCode.ShouldNotBe(0);
        (Directory.Exists(Folder["cut"]) ? Directory.GetFileSystemEntries(Folder["cut"]) : [])
            .ShouldAllBe(e => Path.GetFileName(e).StartsWith(".moorfield-build-", StringComparison.Ordinal));
        Run("media", "folder", _iso, "--to", Folder["cut"]).ExitCode.ShouldBe(0);
        Tool.Read("diff", "-r", "--exclude=boot.cat", Folder["tree"], Folder["cut"]);
    }
}
