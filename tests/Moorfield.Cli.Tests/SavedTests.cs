using System.Text.Json.Nodes;
using System.Text.Json;
using Moorfield.Tests;

namespace Moorfield.Cli.Tests;

/// <summary>An inventory that was saved as JSON, in place of the target that it was taken from.</summary>
public sealed class SavedTests : CliTest
{
    private readonly string _saved;
    private readonly string _savedImage;
    private readonly string _image;

    public SavedTests()
    {
        _image = Demo.CopyImageTo(Folder);
        _saved = Save("saved.json", Root);
        _savedImage = Save("image.json", _image);
    }

    private string Save(string name, params string[] arguments)
    {
        var outcome = Run(["inventory", .. arguments, "--format", "json"]);
        outcome.ExitCode.ShouldBe(0, outcome.Error);
        return Folder.Write(name, System.Text.Encoding.UTF8.GetBytes(outcome.Output));
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
        SaysTheSame(Root, _saved, t => ["inventory", t, "--all", "--classic"]);
        SaysTheSame(Root, _saved, t => ["inventory", t, "--leftovers"]);
        SaysTheSame(Root, _saved, t => ["inventory", t, "--format", "csv"]);
        SaysTheSame(_image, _savedImage, t => ["inventory", t, "--edition", "2"]);
        SaysTheSame(Root, _saved, t => ["explain", t, "Weather", "--places", "--format", "json"]);
        SaysTheSame(Root, _saved, t => ["guards", t, "--format", "csv"]);
        SaysTheSame(Root, _saved, t => ["blocks", t, "--format", "csv"]);
        SaysTheSame(Root, _saved, t => ["forecast", t, "--sign-in", "--all"]);
        string brief = Folder.Write("b.yaml", "brief: 1\nfor: everyone\nremove: [Weather, {origin: maker}]\nguard: [consumer-features]"u8);
        SaysTheSame(Root, _saved, t => ["check", t, "--brief", brief]);
        SaysTheSame(Root, _saved, t => ["brief", "show", brief, "--on", t]);
        Run("compare", _saved, Root).Output.ShouldContain("Nothing differs.");
        Run("compare", _savedImage, _image).Output.ShouldContain("Nothing differs.");
    }

    [Fact]
    public void Saved_again_it_is_the_same()
    {
        var first = JsonNode.Parse(File.ReadAllText(_saved))!.AsObject();
        var second = JsonNode.Parse(File.ReadAllText(Save("again.json", _saved)))!.AsObject();
        second["target"] = first["target"]!.DeepClone();
        JsonNode.DeepEquals(first, second).ShouldBeTrue();
    }

    [Fact]
    public void An_update_is_forecast_from_a_saved_system_and_a_saved_image()
    {
        string update = Demo.CopyUpdateTo(Folder);
        string[] Forecast(string target, string image) => ["forecast", target, "--update", image, "--format", "csv"];
        Run(Forecast(_saved, Save("update.json", update))).Output.ShouldBe(Run(Forecast(Root, update)).Output);
    }

    [Fact]
    public void With_a_byte_order_mark_it_is_the_same()
    {
        string marked = Folder.Write("marked.json", [0xEF, 0xBB, 0xBF, .. File.ReadAllBytes(_saved)]);
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
    public void One_that_was_saved_with_filters_is_not_taken_for_the_whole()
    {
        string part = Save("part.json", Root, "--find", "Weather");
        Run("inventory", part).Output.ShouldContain("1 package");
        string brief = Folder.Write("b.yaml", "brief: 1\nremove: [Weather]"u8);
        var outcome = Run("check", part, "--brief", brief, "--for", "everyone");
        (outcome.ExitCode, outcome.Error.Contains("saved with filters")).ShouldBe((3, true));
    }

    [Fact]
    public void A_guard_that_was_not_looked_up_is_not_known()
    {
        string brief = Folder.Write("b.yaml", "brief: 1\nfor: everyone\nguard: [{hive: machine, key: A, name: B, type: dword, data: 1}]"u8);
        Run("guards", _saved, "--brief", brief).Output.ShouldContain("Not known for");
        var outcome = Run("check", _saved, "--brief", brief);
        (outcome.ExitCode, outcome.Output.Contains("it is not known whether the guard SOFTWARE: A: B is set")).ShouldBe((4, true));
    }

    /// <summary>What earlier versions wrote lacks what only Moorfield reads.</summary>
    private string Older()
    {
        var json = JsonNode.Parse(File.ReadAllText(_saved))!.AsObject();
        json.Remove("filtered");
        foreach (var system in json["systems"]!.AsArray().Select(s => s!.AsObject()))
        {
            system.Remove("facts");
            foreach (var package in system["packages"]!.AsArray().Select(p => p!.AsObject()))
            {
                foreach (string added in new[] { "facts", "description", "startsWithWindows", "runsInBackground" })
                    package.Remove(added);
            }
            foreach (var leftover in system["leftovers"]!.AsArray().Select(l => l!.AsObject()))
                leftover.Remove("at");
        }
        return Folder.Write("older.json", JsonSerializer.SerializeToUtf8Bytes(json));
    }

    [Fact]
    public void An_older_document_is_read_and_what_it_does_not_say_is_not_known()
    {
        string older = Older();
        string[] Standings(string target) =>
            [.. Run("inventory", target, "--all", "--columns", "package,standing,accounts", "--format", "csv").Output.Split("\r\n")];
        Standings(older).ShouldBe(Standings(_saved));
        Run("explain", older, "Weather").Output.ShouldContain("Needs          not known");
        Run("compare", older, Root).Output.ShouldContain("Nothing differs.");
        string brief = Folder.Write("b.yaml", "brief: 1\nfor: everyone\nremove: [Weather, Shell Host]"u8);
        Run("check", older, "--brief", brief).Output.ShouldContain("Shell Host");
    }

    [Theory]
    [InlineData("{}")]
    [InlineData("{\"schema\":\"moorfield.inventory/1\"}")]
    [InlineData("{\"schema\":\"moorfield.inventory/1\",\"target\":\"x\",\"kind\":\"volume\",\"systems\":[null]}")]
    [InlineData("{\"schema\":\"moorfield.plan/1\",\"systems\":[]}")]
    public void What_is_no_inventory_is_said_in_one_sentence(string json)
    {
        string file = Folder.Write("bad.json", System.Text.Encoding.UTF8.GetBytes(json));
        var outcome = Run("inventory", file);
        (outcome.ExitCode, outcome.Error.TrimEnd().Split('\n').Length).ShouldBe((2, 1), outcome.Error);
    }

    [Theory]
    [InlineData("\"fullName\": \"Northlight.Weather", "\"fullName\": \"..")]
    [InlineData("\"at\": \"Windows", "\"at\": \"..\\\\..\\\\Windows")]
    [InlineData("\"type\": \"tree\"", "\"type\": \"bush\"")]
    [InlineData("\"scope\": \"account\"", "\"scope\": \"9\"")]
    [InlineData("\"hive\": \"machine\"", "\"hive\": \"moon\"")]
    public void A_spoilt_one_is_refused(string what, string by)
    {
        string text = File.ReadAllText(_saved);
        text.ShouldContain(what);
        File.WriteAllText(_saved, text.Replace(what, by, StringComparison.Ordinal));
        var outcome = Run("inventory", _saved);
        (outcome.ExitCode, outcome.Error.Contains("is JSON, but not an inventory")).ShouldBe((2, true), outcome.Error);
    }
}
