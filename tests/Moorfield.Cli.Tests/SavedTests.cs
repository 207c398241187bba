using System.IO.Compression;
using System.Text.Json.Nodes;
using Moorfield.Tests;

namespace Moorfield.Cli.Tests;

/// <summary>An inventory that was saved, in place of the target that it was taken from.</summary>
public sealed class SavedTests : CliTest
{
    private readonly string _saved;
    private readonly string _savedImage;
    private readonly string _image;

    public SavedTests()
    {
        _image = Demo.CopyImageTo(Folder);
        _saved = Save("saved", Root);
        _savedImage = Save("image", _image);
    }

    /// <summary>A saved inventory without its compression.</summary>
    private string Plain(string path)
    {
        using var packed = new GZipStream(File.OpenRead(path), CompressionMode.Decompress);
        using var plain = File.Create(path + ".plain");
        packed.CopyTo(plain);
        return plain.Name;
    }

    /// <summary>What a command says of the saved inventory must be what it says of the target, but for the name.</summary>
    private void SaysTheSame(string target, string saved, Func<string, string[]> command)
    {
        var live = Run(command(target));
        var later = Run(command(saved));
        (later.ExitCode, Neutral(later.Output, saved)).ShouldBe((live.ExitCode, Neutral(live.Output, target)), later.Error);
    }

    private static string Neutral(string text, string path) =>
        text.Replace(path, "TARGET", StringComparison.Ordinal).Replace(Path.GetFileName(path), "TARGET", StringComparison.Ordinal);

    [Fact]
    public void Reading_commands_say_of_it_what_they_say_of_the_target()
    {
        SaysTheSame(Root, _saved, t => ["inventory", t, "--all", "--kind", "all"]);
        SaysTheSame(Root, _saved, t => ["inventory", t, "--leftovers"]);
        SaysTheSame(Root, _saved, t => ["inventory", t, "--format", "csv"]);
        SaysTheSame(_image, _savedImage, t => ["inventory", t, "--edition", "2"]);
        SaysTheSame(Root, _saved, t => ["explain", t, "Weather", "--places", "--format", "json"]);
        SaysTheSame(Root, _saved, t => ["guard", t, "--format", "csv"]);
        SaysTheSame(Root, _saved, t => ["block", t, "--format", "csv"]);
        SaysTheSame(Root, _saved, t => ["forecast", t, "--sign-in", "--all"]);
        string brief = Folder.Write("b.yaml", "brief: 1\nfor: everyone\nremove: [Weather, {origin: maker}]\nguard: [offered-apps]"u8);
        SaysTheSame(Root, _saved, t => ["check", t, "--brief", brief]);
        SaysTheSame(Root, _saved, t => ["brief", "show", brief, "--on", t]);
        Run("compare", _saved, Root).Output.ShouldContain("Nothing differs.");
        Run("compare", _savedImage, _image).Output.ShouldContain("Nothing differs.");
    }

    [Fact]
    public void Saved_again_it_is_the_same()
    {
        var first = JsonNode.Parse(File.ReadAllText(Plain(_saved)))!.AsObject();
        var second = JsonNode.Parse(File.ReadAllText(Plain(Save("again", _saved))))!.AsObject();
        second["target"] = first["target"]!.DeepClone();
        JsonNode.DeepEquals(first, second).ShouldBeTrue();
    }

    [Fact]
    public void An_update_is_forecast_from_a_saved_system_and_a_saved_image()
    {
        string update = Demo.CopyUpdateTo(Folder);
        string[] Forecast(string target, string image) => ["forecast", target, "--update", image, "--format", "csv"];
        Run(Forecast(_saved, Save("update", update))).Output.ShouldBe(Run(Forecast(Root, update)).Output);
    }

    [Fact]
    public void With_a_byte_order_mark_it_is_the_same()
    {
        string marked = Folder.Write("marked.json", [0xEF, 0xBB, 0xBF, .. File.ReadAllBytes(Plain(_saved))]);
        Run("inventory", marked).Output.ShouldBe(Run("inventory", _saved).Output);
    }

    [Fact]
    public void It_cannot_be_changed()
    {
        Refused(5, "saved inventory, which can only be read", "remove", _saved, "Weather", "--for", "everyone", "--yes");
        Refused(5, "saved inventory, which can only be read", "block", _saved, "Weather", "--yes");
        Refused(5, "saved inventory, which can only be read", "undo", _saved, "--yes");
    }

    [Fact]
    public void All_of_it_is_saved_into_a_new_file_or_nothing()
    {
        Refused(2, "omit filters, --for and --leftovers", "inventory", Root, "--find", "Weather", "--format", "saved", "--to", Folder["part"]);
        Refused(2, "--format saved needs --to FILE", "inventory", Root, "--format", "saved");
        Refused(2, "--to FILE goes with --format", "inventory", Root, "--to", Folder["part"]);
        byte[] before = File.ReadAllBytes(_saved);
        Refused(2, "is there already", "inventory", Root, "--format", "saved", "--to", _saved);
        File.ReadAllBytes(_saved).ShouldBe(before);
        File.Exists(Folder["part"]).ShouldBeFalse();
    }

    [Fact]
    public void A_document_for_other_programs_is_no_target_and_has_nothing_that_only_moorfield_reads()
    {
        string json = Run("inventory", Root, "--format", "json").Output;
        json.Length.ShouldBeLessThan(200_000);
        json.ShouldNotContain("\"facts\"");
        Refused(2, "is an inventory for other programs", "inventory", Folder.Write("inventory.json", System.Text.Encoding.UTF8.GetBytes(json)));
    }

    [Fact]
    public void What_is_compressed_and_no_inventory_is_refused()
    {
        using (var packed = new GZipStream(File.Create(Folder["other.gz"]), CompressionLevel.Fastest))
            packed.Write("something else"u8);
        Refused(2, "is compressed, but not an inventory", "inventory", Folder["other.gz"]);
        File.WriteAllBytes(_saved, File.ReadAllBytes(_saved)[..^200]);
        Refused(2, "is compressed, but not an inventory", "inventory", _saved);
    }

    [Fact]
    public void A_guard_that_was_not_looked_up_is_not_known()
    {
        string brief = Folder.Write("b.yaml", "brief: 1\nfor: everyone\nguard: [{hive: machine, key: A, name: B, type: dword, data: 1}]"u8);
        var outcome = Run("check", _saved, "--brief", brief);
        (outcome.ExitCode, outcome.Output.Contains("it is not known whether the guard SOFTWARE: A: B is set")).ShouldBe((4, true));
    }

    [Theory]
    [InlineData("{}")]
    [InlineData("{\"schema\":\"moorfield.saved-inventory/1\"}")]
    [InlineData("{\"schema\":\"moorfield.saved-inventory/1\",\"target\":\"x\",\"kind\":\"volume\",\"systems\":[null]}")]
    [InlineData("{\"schema\":\"moorfield.plan/1\",\"systems\":[]}")]
    public void What_is_no_inventory_is_said_in_one_sentence(string json)
    {
        string file = Folder.Write("bad.json", System.Text.Encoding.UTF8.GetBytes(json));
        var outcome = Run("inventory", file);
        (outcome.ExitCode, outcome.Error.TrimEnd().Split('\n').Length).ShouldBe((2, 1), outcome.Error);
    }

    [Theory]
    [InlineData("\"fullName\":\"Northlight.Weather", "\"fullName\":\"..")]
    [InlineData("\"at\":\"Windows", "\"at\":\"..\\\\..\\\\Windows")]
    [InlineData("\"type\":\"tree\"", "\"type\":\"bush\"")]
    [InlineData("\"scope\":\"Account\"", "\"scope\":\"9\"")]
    [InlineData("\"hive\":\"Machine\"", "\"hive\":\"moon\"")]
    public void A_spoilt_one_is_refused(string what, string by)
    {
        string plain = Plain(_saved), text = File.ReadAllText(plain);
        text.Contains(what, StringComparison.Ordinal).ShouldBeTrue();
        File.WriteAllText(plain, text.Replace(what, by, StringComparison.Ordinal));
        var outcome = Run("inventory", plain);
        (outcome.ExitCode, outcome.Error.Contains("is JSON, but not an inventory")).ShouldBe((2, true), outcome.Error);
    }
}
