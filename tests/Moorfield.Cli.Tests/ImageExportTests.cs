using Moorfield.Tests;

namespace Moorfield.Cli.Tests;

/// <summary>Image files that are written anew, read back by wimlib-imagex.</summary>
public sealed class ImageExportTests : CliTest
{
    private readonly string _image;

    public ImageExportTests() => _image = Demo.CopyImageTo(Folder);

    private string Esd()
    {
        Tool.Read("wimlib-imagex", "export", _image, "all", Folder["install.esd"], "--solid", "--compress=LZMS:20");
        return Folder["install.esd"];
    }

    [Theory]
    [InlineData("lzx", "LZX")]
    [InlineData("lzx-thorough", "LZX")]
    [InlineData("xpress", "XPRESS")]
    [InlineData("none", "None")]
    public void An_ESD_becomes_a_WIM_that_holds_the_same(string compression, string says)
    {
        string esd = Esd();
        Run("remove", esd, "Weather", "--yes", "--accept-costs").ExitCode.ShouldBe(5);
        var outcome = Run("image", "convert", esd, "--to", Folder["made.wim"], "--compression", compression);
        outcome.ExitCode.ShouldBe(0, outcome.Error);
        Tool.Read("wimlib-imagex", "verify", Folder["made.wim"]);
        Tool.Read("wimlib-imagex", "info", Folder["made.wim"]).ShouldContain($"Compression:    {says}");
        Run("compare", _image, Folder["made.wim"]).Output.ShouldContain("Nothing differs.");
        Run("remove", Folder["made.wim"], "Weather", "--yes", "--accept-costs").ExitCode.ShouldBe(0);
        var again = Run("image", "convert", esd, "--to", Folder["made.wim"]);
        again.ExitCode.ShouldBe(2);
        again.Error.ShouldContain("is there already");
        Directory.GetFiles(Folder.Path, ".*part").ShouldBeEmpty();
    }

    [Fact]
    public void An_encrypted_ESD_is_recognised()
    {
        string esd = Esd();
        byte[] bytes = File.ReadAllBytes(esd);
        long at = BitConverter.ToInt64(bytes, 80), length = BitConverter.ToInt64(bytes, 72) & 0xFFFFFFFFFFFFFF;
        string xml = System.Text.Encoding.Unicode.GetString(bytes, (int)at, (int)length)
            .Replace("<WIM>", "<WIM><ESD><ENCRYPTED><KEY>AAAA</KEY></ENCRYPTED></ESD>", StringComparison.Ordinal);
        byte[] changed = System.Text.Encoding.Unicode.GetBytes(xml);
        BitConverter.GetBytes(changed.LongLength | (2L << 56)).CopyTo(bytes, 72);
        BitConverter.GetBytes(bytes.LongLength).CopyTo(bytes, 80);
        BitConverter.GetBytes(changed.LongLength).CopyTo(bytes, 88);
        File.WriteAllBytes(esd, [.. bytes, .. changed]);
        foreach (string[] call in new string[][] { ["inventory", esd], ["image", "list", esd], ["image", "convert", esd, "--to", Folder["no.wim"]] })
        {
            var outcome = Run(call);
            (outcome.ExitCode, outcome.Error.Contains("is encrypted: it must be decrypted first", StringComparison.Ordinal)).ShouldBe((1, true));
        }
        File.Exists(Folder["no.wim"]).ShouldBeFalse();
    }

    [Fact]
    public void Editions_are_exported_in_the_order_in_which_they_are_named()
    {
        var outcome = Run("image", "export", _image, "--edition", "3", "--edition", "Counter Home", "--to", Folder["some.wim"]);
        outcome.ExitCode.ShouldBe(0, outcome.Error);
        outcome.Output.ShouldContain("has 2 editions");
        string info = Tool.Read("wimlib-imagex", "info", Folder["some.wim"]);
        info.IndexOf("Counter Office", StringComparison.Ordinal).ShouldBeLessThan(info.IndexOf("Counter Home", StringComparison.Ordinal));
        Run("image", "export", _image, "--edition", "9", "--to", Folder["no.wim"]).ExitCode.ShouldBe(2);
        File.WriteAllBytes(Folder["cut.wim"], File.ReadAllBytes(_image)[..(int)(new FileInfo(_image).Length / 2)]);
        Run("image", "convert", Folder["cut.wim"], "--to", Folder["no.wim"]).ExitCode.ShouldBe(1);
        File.Exists(Folder["no.wim"]).ShouldBeFalse();
    }

    [Fact]
    public void An_image_is_split_and_joined_again()
    {
        string big = Folder["big.wim"];
        Directory.CreateDirectory(Folder["files"]);
        for (int i = 0; i < 6; i++)
        {
            byte[] content = new byte[700_000];
            new Random(i).NextBytes(content);
            File.WriteAllBytes(Folder[$"files/{i}"], content);
        }
        Tool.Read("wimlib-imagex", "capture", Folder["files"], big, "Files");
        var outcome = Run("image", "split", big, "--to", Folder["install.swm"], "--part", "1");
        outcome.ExitCode.ShouldBe(0, outcome.Error);
        outcome.Output.ShouldContain("install.swm, install2.swm");
        Tool.Read("wimlib-imagex", "verify", Folder["install.swm"], $"--ref={Folder["install*.swm"]}");
        Run("image", "split", big, "--to", Folder["install.swm"]).ExitCode.ShouldBe(2);
        Run("image", "join", Folder["install.swm"], "--to", Folder["joined.wim"]).ExitCode.ShouldBe(0);
        Tool.Read("wimlib-imagex", "verify", Folder["joined.wim"]);
        Tool.Read("wimlib-imagex", "dir", Folder["joined.wim"], "1", "--detailed").ShouldBe(Tool.Read("wimlib-imagex", "dir", big, "1",
            "--detailed"));
        File.Delete(Folder["install2.swm"]);
        Run("image", "join", Folder["install.swm"], "--to", Folder["less.wim"]).ExitCode.ShouldBe(1);
        File.Exists(Folder["less.wim"]).ShouldBeFalse();
        Run("image", "split", Esd(), "--to", Folder["esd.swm"]).Error.ShouldContain("an ESD, which cannot be split");
    }

    [Theory]
    [InlineData(true)]
    [InlineData(false)]
    public void A_medium_with_an_ESD_is_built_with_a_WIM(bool plain)
    {
        string iso = MediumSource.Make(Folder, MediumSource.Tree(Folder, Esd(), "install.esd"), plain);
        Run("inventory", iso).ExitCode.ShouldBe(0);
        string to = Folder["built.iso"];
        var preview = Run("media", "build", iso, "Weather", "--to", to, "--preview");
        preview.Output.ShouldContain("becomes a WIM on the way (sources/install.wim)");
        var outcome = Run("media", "build", iso, "Weather", "--to", to, "--yes", "--accept-costs");
        outcome.ExitCode.ShouldBe(0, outcome.Error);
        Run("image", "list", to).Output.ShouldContain("Image        sources/install.wim");
        Run("remove", _image, "Weather", "--yes", "--accept-costs", "--without-restore-point").ExitCode.ShouldBe(0);
        Run("compare", to, _image).Output.ShouldContain("Nothing differs.");
        Tool.Read("7zz", "x", "-y", $"-o{Folder["out"]}", to);
        Tool.Read("wimlib-imagex", "verify", Folder["out/sources/install.wim"]);
        if (!plain)
            Tool.Read("isoinfo", "-J", "-f", "-i", to).ShouldContain("/sources/install.wim");
    }
}
