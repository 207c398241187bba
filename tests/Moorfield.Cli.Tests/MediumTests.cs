using Moorfield.Tests;

namespace Moorfield.Cli.Tests;

/// <summary>ISO files, and folders with their files, as targets.</summary>
public sealed class MediumTests : CliTest
{
    [Fact]
    public void Reading_commands_take_an_ISO_like_the_image_inside()
    {
        string image = Demo.CopyImageTo(Folder);
        string tree = MediumSource.Tree(Folder, image);
        string iso = MediumSource.Make(Folder, tree, plain: true);
        string brief = Folder.Write("b.yaml", "brief: 1\nremove: [Weather]"u8);
        foreach (string[] call in new string[][] { ["inventory", "*", "--edition", "2"], ["explain", "*", "Weather", "--edition", "1"], ["block",
            "*"],
            ["guard", "*"], ["check", "*", "--brief", brief], ["brief", "show", brief, "--on", "*"], ["inventory", "*", "--format", "csv"] })
        {
            var inside = Run([.. call.Select(c => c == "*" ? image : c)]);
            foreach (string medium in new[] { iso, tree })
            {
                var outcome = Run([.. call.Select(c => c == "*" ? medium : c)]);
                (outcome.ExitCode, outcome.Output.Replace("medium.iso", "X", StringComparison.Ordinal).Replace("install.wim", "X",
                    StringComparison.Ordinal))
                    .ShouldBe((inside.ExitCode, inside.Output.Replace("counter-install.wim", "X", StringComparison.Ordinal)), outcome.Error);
            }
        }
        Run("compare", iso, image).Output.ShouldContain("Nothing differs.");
        Run("forecast", Root, "--update", MediumSource.Make(Folder, Replaced(tree), plain: false, "update.iso"))
            .Output.ShouldContain("build 28000.1030");
        var list = Run("image", "list", iso);
        list.Output.ShouldContain("Medium       'SALTMARSH_X64'");
        list.Output.ShouldContain("Starts       BIOS (block ");
        list.Output.ShouldContain("Image        sources/install.wim");
        byte[] before = File.ReadAllBytes(iso);
        var remove = Run("remove", iso, "Weather", "--yes", "--accept-costs");
        remove.ExitCode.ShouldBe(5);
        File.ReadAllBytes(iso).ShouldBe(before);
    }

    private string Replaced(string tree)
    {
        File.Copy(Demo.CopyUpdateTo(Folder), Path.Combine(tree, "sources/install.wim"), overwrite: true);
        return tree;
    }

    [Fact]
    public void A_medium_with_several_images_or_none_is_refused()
    {
        string image = Demo.CopyImageTo(Folder);
        string tree = MediumSource.Tree(Folder, image);
        File.Copy(image, Path.Combine(tree, "sources/install.esd"));
        string iso = MediumSource.Make(Folder, tree, plain: true);
        foreach (string medium in new[] { iso, tree })
            Run("inventory", medium).Error.ShouldContain("several install images");
        File.Delete(Path.Combine(tree, "sources/install.esd"));
        File.Delete(Path.Combine(tree, "sources/install.wim"));
        Run("inventory", MediumSource.Make(Folder, tree, plain: true, "none.iso")).Error.ShouldContain("without an install image");
    }
}
