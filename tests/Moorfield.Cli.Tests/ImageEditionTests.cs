using Moorfield.Tests;

namespace Moorfield.Cli.Tests;

/// <summary>Editions that are dropped or renamed, and undone; read back by wimlib-imagex.</summary>
public sealed class ImageEditionTests : CliTest
{
    private readonly string _image;
    private readonly byte[] _before;

    public ImageEditionTests()
    {
        _image = Demo.CopyImageTo(Folder);
        _before = File.ReadAllBytes(_image);
    }

    private string Info() => Tool.Read("wimlib-imagex", "info", _image);

    [Fact]
    public void An_edition_is_dropped_and_comes_back_to_the_byte()
    {
        var preview = Run("image", "drop", _image, "--edition", "Counter Home", "--preview");
        preview.ExitCode.ShouldBe(0, preview.Error);
        preview.Output.ShouldContain("Edition 1 (Counter Home) goes.");
        preview.Output.ShouldContain("Edition 2 (Counter Pro) stays, as number 1.");
        preview.Output.ShouldContain("undone until something else changes the file");
        File.ReadAllBytes(_image).ShouldBe(_before);
        var outcome = Run("image", "drop", _image, "--edition", "Counter Home", "--yes");
        outcome.ExitCode.ShouldBe(0, outcome.Error);
        Tool.Read("wimlib-imagex", "verify", _image);
        Info().ShouldContain("Image Count:    3");
        Info().ShouldNotContain("Counter Home");
        // Each is still what it was, under its new number, and referred to as often as it should be.
        for (int image = 1; image <= 3; image++)
            WimSource.Details(_image, image).Count.ShouldBeGreaterThan(10);
        string other = Demo.CopyImageTo(Folder, "other.wim");
        Tool.Read("wimlib-imagex", "delete", other, "1");
        WimSource.References(_image).ShouldBe(WimSource.References(other));
        Run("compare", _image, other).Output.ShouldContain("Nothing differs.");
        Run("restore-point", "list").Output.ShouldContain("drop Counter Home");
        Run("undo", _image, "--yes").Output.ShouldContain("to the last byte");
        File.ReadAllBytes(_image).ShouldBe(_before);
        // The undo can be taken back, and that again.
        var again = Run("undo", _image, "2", "--yes");
        again.ExitCode.ShouldBe(0, again.Error);
        Info().ShouldContain("Image Count:    3");
        Tool.Read("wimlib-imagex", "verify", _image);
        Run("undo", _image, "3", "--yes").ExitCode.ShouldBe(0);
        File.ReadAllBytes(_image).ShouldBe(_before);
    }

    [Fact]
    public void What_came_before_a_drop_is_undone_after_it_and_what_came_after_it_stands_in_the_way()
    {
        Run("remove", _image, "Weather", "--edition", "3", "--yes", "--accept-costs").ExitCode.ShouldBe(0);
        byte[] removed = File.ReadAllBytes(_image);
        Run("image", "drop", _image, "--edition", "1", "--edition", "2", "--yes").ExitCode.ShouldBe(0);
        var undo = Run("undo", _image, "1", "--yes");
        undo.ExitCode.ShouldBe(5);
        undo.Error.ShouldContain("Undo that one first");
        Run("remove", _image, "Calculator", "--edition", "1", "--yes", "--accept-costs").ExitCode.ShouldBe(0);
        undo = Run("undo", _image, "2", "--yes");
        undo.ExitCode.ShouldBe(5);
        undo.Error.ShouldContain("an edition comes back only with the whole file");
        Run("undo", _image, "3", "--yes").ExitCode.ShouldBe(0);
        Run("undo", _image, "2", "--yes").ExitCode.ShouldBe(0);
        File.ReadAllBytes(_image).ShouldBe(removed);
        Run("undo", _image, "1", "--yes").ExitCode.ShouldBe(0);
        File.ReadAllBytes(_image).ShouldBe(_before);
    }

    [Fact]
    public void An_edition_gets_another_name_and_its_own_back_even_after_other_runs()
    {
        var outcome = Run("image", "rename", _image, "--edition", "2", "--name", "Counter Pro 2026", "--description",
            "Für <Fähren> & \"mehr\"", "--yes");
        outcome.ExitCode.ShouldBe(0, outcome.Error);
        outcome.Output.ShouldContain("Edition 2 of counter-install.wim is 'Counter Pro 2026' now.");
        string info = Tool.Read("wimlib-imagex", "info", _image, "2");
        info.ShouldContain("Name:                   Counter Pro 2026");
        info.ShouldContain("Description:            Für <Fähren> & \"mehr\"");
        Run("remove", _image, "Weather", "--edition", "Counter Pro 2026", "--yes", "--accept-costs").ExitCode.ShouldBe(0);
        Run("undo", _image, "1", "--yes").ExitCode.ShouldBe(0);
        Tool.Read("wimlib-imagex", "info", _image, "2").ShouldContain("Name:                   Counter Pro\n");
        Run("inventory", _image, "--edition", "2").Output.ShouldNotContain("Weather");
        Run("image", "rename", _image, "--edition", "2", "--name", "Counter Home", "--yes").ExitCode.ShouldBe(2);
        Run("image", "rename", _image, "--edition", "2", "--name", " x", "--yes").ExitCode.ShouldBe(2);
        Run("image", "rename", _image, "--edition", "2", "--yes").ExitCode.ShouldBe(2);
        Run("image", "rename", _image, "--name", "x", "--yes").ExitCode.ShouldBe(2);
        Run("image", "rename", _image, "--edition", "2", "--name", "Counter Pro", "--yes").Error.ShouldContain("has that name already");
    }

    [Fact]
    public void The_edition_that_starts_and_the_last_one_are_told()
    {
        Tool.Read("wimlib-imagex", "info", _image, "2", "--boot");
        Run("image", "drop", _image, "--edition", "2", "--preview").Output.ShouldContain("afterwards the file has no boot edition");
        Run("image", "drop", _image, "--edition", "1", "--yes").ExitCode.ShouldBe(0);
        Info().ShouldContain("Boot Index:     1");
        Run("image", "drop", _image, "--edition", "1", "--yes").ExitCode.ShouldBe(0);
        Info().ShouldContain("Boot Index:     0");
        Tool.Read("wimlib-imagex", "verify", _image);
        Run("image", "drop", _image, "--edition", "1", "--edition", "2", "--yes").Error.ShouldContain("at least one must stay");
        Run("image", "drop", _image, "--yes").ExitCode.ShouldBe(2);
        Run("image", "drop", _image, "--edition", "1", "--yes").ExitCode.ShouldBe(0);
        var compact = Run("image", "compact", _image, "--yes");
        compact.ExitCode.ShouldBe(0, compact.Error);
        Tool.Read("wimlib-imagex", "verify", _image);
        new FileInfo(_image).Length.ShouldBeLessThan(_before.Length);
        Run("undo", _image, "--yes").ExitCode.ShouldBe(5);
    }
}
