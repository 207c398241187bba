using System.Text.RegularExpressions;
using Moorfield.Tests;

namespace Moorfield.Cli.Tests;

/// <summary>What a person meets first: help, widths, completion, and calls for what is so already.</summary>
public sealed class FrontDoorTests : CliTest
{
    private static readonly TimeSpan Limit = TimeSpan.FromSeconds(5);

    private ToolResult RunAt(int columns, params string[] arguments) => Tool.Run(
        Command([])[0], arguments, new Dictionary<string, string>(Surroundings) { ["COLUMNS"] = $"{columns}" }, null);

    private void Done(params string[] arguments)
    {
        var outcome = Run(arguments);
        outcome.ExitCode.ShouldBe(0, outcome.Error);
    }

    [Theory]
    [InlineData("remove")]
    [InlineData("block")]
    [InlineData("guard")]
    [InlineData("undo")]
    [InlineData("bring-back")]
    [InlineData("inventory")]
    [InlineData("check")]
    [InlineData("forecast")]
    [InlineData("hand-over")]
    [InlineData("media build")]
    [InlineData("brief export")]
    [InlineData("restore-point delete")]
    [InlineData("packages")]
    [InlineData("options")]
    public void An_option_has_one_line_of_100_columns_and_a_command_at_most_20(string page)
    {
        string[] lines = RunAt(100, ["help", .. page.Split(' ')]).Output.Split('\n');
        var options = lines.Index().Where(l => Regex.IsMatch(l.Item, "^  (-[a-z], )?--[a-z]", RegexOptions.ExplicitCapture, Limit)).ToList();
        options.Count.ShouldBeInRange(5, 20);
        foreach (var (at, line) in options)
        {
            line.Length.ShouldBeLessThanOrEqualTo(100);
            (at + 1 < lines.Length && lines[at + 1].StartsWith("          ", StringComparison.Ordinal)).ShouldBeFalse(line);
        }
    }

    private static readonly string[] Outputs =
    [
        "inventory VOLUME", "inventory VOLUME --all", "inventory VOLUME --leftovers", "inventory IMAGE", "inventory VOLUME --kind all",
        "inventory VOLUME --kind desktop",
        "explain VOLUME Picture_Viewer --places", "explain VOLUME Films", "check VOLUME IMAGE --brief BRIEF", "forecast VOLUME --update UPDATE",
        "forecast VOLUME --sign-in --all", "remove VOLUME Weather Music --for everyone --preview", "remove VOLUME * --for everyone --preview",
        "remove IMAGE Weather --preview", "remove VOLUME --leftovers --preview", "block VOLUME", "block VOLUME Chess.*", "guard VOLUME",
        "brief show BRIEF --on VOLUME", "image list IMAGE", "compare IMAGE UPDATE --before-edition 1 --after-edition 1", "compare VOLUME IMAGE",
        "hand-over VOLUME Weather --for everyone --to NEW --preview", "image compact IMAGE --preview", "help", "help remove", "help restore-point",
        "help packages", "help targets", "remove VOLUME Wether --for everyone", "remove VOLUME Weather", "inventory NEW",
    ];

    private static readonly string[] OutputsAfterRemoval =
    [
        "restore-point list", "restore-point list --sizes", "restore-point show 1", "restore-point verify", "restore-point delete 1 --preview",
        "bring-back VOLUME Films --for rowan --preview", "undo VOLUME --preview", "undo VOLUME --everything --preview", "undo VOLUME Clock --preview",
        "restore-point create VOLUME",
    ];

    [Theory]
    [InlineData(false)]
    [InlineData(true)]
    public void Whatever_is_said_fits_its_width(bool afterRemoval)
    {
        string image = Demo.CopyImageTo(Folder), update = Demo.CopyUpdateTo(Folder);
        string brief = Folder.Write("b.yaml", "brief: 1\nfor: everyone\nremove: ['*', Saltmarsh.Lottery_5s2ajr5e6xvkm]\nguard: [partner-apps]"u8);
        if (afterRemoval)
            Done("remove", Root, "Clock", "Weather", "--for", "everyone", "--yes");
        foreach (string line in afterRemoval ? OutputsAfterRemoval : Outputs)
        {
            string[] arguments = [.. line.Split(' ').Select(a => a switch
            {
                "VOLUME" => Root, "IMAGE" => image, "UPDATE" => update, "BRIEF" => brief, "NEW" => Folder["new"], _ => a.Replace('_', ' '),
            })];
            foreach (int width in new[] { 80, 100, 120, 160 })
            {
                var outcome = RunAt(width, arguments);
                string text = outcome.Output + "\n" + outcome.Error;
                CheckWidth(text, width, line + ", in a pipe");
                text.Split('\n').ShouldAllBe(l => l.TrimEnd().Length == l.Length, line);
            }
            foreach (int width in new[] { 80, 160 })
                CheckWidth(OnTerminal(width, arguments), width, line + ", on a terminal");
        }
    }

    [Fact]
    public void The_demo_story_has_only_options_that_its_commands_know()
    {
        string[] steps = [.. File.ReadAllLines(Path.Combine(Path.GetDirectoryName(Command([])[0])!, "../run")).Select(l => l.Trim())
            .Where(l => l.StartsWith("step ", StringComparison.Ordinal))];
        steps.Length.ShouldBeGreaterThan(50);
        string[] groups = ["brief", "restore-point", "image", "media", "fleet"];
        string common = Run("help", "options").Output + Run("help", "packages").Output;
        foreach (string step in steps)
        {
            string[] words = [.. step.Split(' ').Skip(1).TakeWhile(w => w is not ("||" or "|"))];
            string[] command = [.. words.Take(groups.Contains(words[0]) || words is ["demo", "media" or "update" or "sign-in" or "power-cut", ..] ? 2 : 1)];
            string help = Run(["help", .. command]).Output + common;
            foreach (string option in words.Where(w => w.StartsWith("--", StringComparison.Ordinal)))
                help.ShouldMatch($@"{option}(?![\w-])", step);
        }
    }

    [Fact]
    public void Places_are_broken_between_names_while_40_characters_fit_and_left_out_below()
    {
        string wide = RunAt(160, "inventory", Root, "--leftovers").Output;
        wide.ShouldContain("  Where");
        wide.ShouldNotContain("Not shown");
        wide.ShouldContain("Windows\\System32\\config\\SOFTWARE: ");
        var narrow = RunAt(80, "inventory", Root, "--leftovers");
        narrow.Output.ShouldNotContain("  Where");
        narrow.Error.ShouldContain("Not shown in 80 columns: Where.");
    }

    private string OnTerminal(int columns, string[] arguments)
    {
        string command = string.Join(' ', Command(arguments).Select(a => $"'{a}'"));
        var outcome = Tool.Run("script", ["-qec", $"stty cols {columns}; {command}", "/dev/null"],
            new Dictionary<string, string> { ["TERM"] = "dumb-not", ["MOORFIELD_VAULT"] = Vault }, "");
        // A line of progress is drawn over the one before it: each is a line to check.
        string lines = Regex.Replace(outcome.Output, @"\r(?![\r\n])", "\n", RegexOptions.None, Limit);
        return Regex.Replace(lines, @"\e\[[0-9;?]*[A-Za-z]|\r", "", RegexOptions.None, Limit);
    }

    private static void CheckWidth(string text, int width, string what)
    {
        string[] lines = text.Split('\n');
        lines.Length.ShouldBeGreaterThan(1, what);
        // A path or a command to copy may be longer, alone on its line.
        lines.Where(l => l.Length > width && l.Trim().Contains(' ', StringComparison.Ordinal) && !l.Contains("moorfield ", StringComparison.Ordinal)
            && !l.Contains("moorfield-test-", StringComparison.Ordinal)).ShouldBeEmpty($"{what}, at {width} columns");
    }

    [Fact]
    public void Columns_without_room_are_named()
    {
        var narrow = RunAt(80, "inventory", Root);
        narrow.Error.ShouldContain("Not shown in 80 columns: Version and Because.");
        narrow.Output.ShouldNotContain("4.53.51922.0");
        var wide = RunAt(160, "inventory", Root);
        (wide.Error, wide.Output.Contains("4.53.51922.0")).ShouldBe(("", true));
        RunAt(80, "inventory", Root, "--format", "csv").Output.Split('\n').ShouldContain(l => l.Length > 160);
    }

    // On a busy machine a target may take longer than a person wants to wait.
    private string[] Completed(string line) => Tool.Run(Command([])[0], [$"[suggest:{line.Length}]", line],
        new Dictionary<string, string>(Surroundings) { ["MOORFIELD_COMPLETION_MS"] = "20000" }, null)
        .Output.Split('\n', StringSplitOptions.RemoveEmptyEntries);

    [Fact]
    public void Completion_knows_what_the_target_has()
    {
        Completed($"remove {Root} We").ShouldBe(["Weather", "Welcome to Kestrelworks"]);
        Completed($"explain {Root} 'pict").ShouldBe(["Picture Viewer", "Picture Viewer Filters"]);
        Completed($"remove {Root} Weather --for i").ShouldBe(["ivy"]);
        Completed($"remove {Root} --for ivy,").ShouldContain("ivy,rowan");
        Completed($"remove {Root} --standing fr").ShouldBe(["free"]);
        Completed($"block {Root} Larkfield.Cr").ShouldBe([Demo.Family("Larkfield.Crossword")]);
        Completed($"guard {Root} partner").ShouldBe(["partner-apps", "partner-offers"]);
        Completed($"guard {Root} removal").ShouldBe(["removal-by-policy"]);
        Completed($"image drop {Demo.CopyImageTo(Folder)} --edition ").Length.ShouldBe(4);
        string brief = Folder.Write("a.brief.yaml", "brief: 1"u8);
        Completed($"check {Root} --brief {Folder.Path}/").ShouldContain(brief);
        Completed($"check {Root} --brief {Folder.Path}/").ShouldNotContain(Demo.CopyUpdateTo(Folder));
        Done("remove", Root, "Clock", "--for", "everyone", "--yes");
        Completed($"undo {Root} ").ShouldBe(["1", "Clock"]);
        Completed("restore-point show ").ShouldBe(["1"]);
        Completed("re").ShouldBe(["remove", "restore-point"]);
        Completed("help inv").ShouldBe(["inventory"]);
        Completed("help wo").ShouldBe(["words"]);
        Completed("help man").ShouldBeEmpty("it is not for people");
        Completed("man").ShouldBeEmpty();
        Completed("remove --ac").ShouldBe(["--accept-costs"]);
        // Never an option where a package belongs, and nothing of what cannot be read.
        Completed($"remove {Root} ").ShouldAllBe(c => !c.StartsWith('-'));
        Completed($"remove {Folder["nowhere"]} W").ShouldBeEmpty();
    }

    [Fact]
    public void Mistakes_with_files_say_what_to_name_instead()
    {
        string file = Folder.Write("b.yaml", "brief: 1"u8), json = Folder.Write("x.json", "{}"u8);
        Refused(2, "Did you mean ivy?", "remove", Root, "Clock", "--for", "ivi", "--yes");
        Refused(2, "b.yaml is a file, not a vault. Name a folder with --vault.", "restore-point", "list", "--vault", file);
        Refused(2, "b.yaml is a file, not a vault.", "remove", Root, "Clock", "--for", "ivy", "--preview", "--vault", file);
        Refused(2, "x.json is JSON, but not an inventory saved by", "inventory", json);
        Refused(2, "x.json is JSON, but not an inventory saved by", "check", json, "--brief", file);
        Refused(2, "b.yaml is a file, but no WIM, ESD or ISO, and no disk.", "check", file, "--brief", file);
        Refused(2, "The target comes first: 'moorfield compare", "compare", "1", Root);
        Refused(2, "'media build' takes an ISO.", "media", "build", Root, "--to", Folder["x.iso"], "--label", "X");
    }

    [Fact]
    public void A_medium_is_refused_before_any_preview()
    {
        var refused = Run("remove", Path.Combine(CopyWholeDemo(), "counter-vendor.iso"), "Weather", "--preview");
        (refused.ExitCode, refused.Output, refused.Error.Contains("'moorfield media build' writes another one"))
            .ShouldBe((5, "", true), refused.Error);
    }

    [Fact]
    public void Without_rights_it_says_who_has_them()
    {
        string image = Demo.CopyImageTo(Folder);
        Tool.Read("chmod", "600", image);
        var outcome = RunAsNobody("inventory", image);
        // RunAsNobody gives everybody the right to read what is in the folder, but for what is closed again.
        Tool.Read("chmod", "600", image);
        outcome = Tool.Run("setpriv", ["--reuid=65534", "--regid=65534", "--clear-groups", "--", Folder["program/moorfield"], "inventory", image],
            Surroundings, null);
        (outcome.ExitCode, outcome.Error.Contains("cannot be read: Permission denied. Use sudo, or another account."))
            .ShouldBe((1, true), outcome.Error);
    }

    [Fact]
    public void Completion_changes_nothing()
    {
        RunInjected("ftruncate:signal=KILL:when=1", "remove", Root, "Weather", "--for", "everyone", "--yes");
        File.Exists(At(".moorfield-run.json")).ShouldBeTrue();
        string before = VolumeState.Files(Root);
        Completed($"remove {Root} Ca").ShouldContain("Calculator");
        VolumeState.Files(Root).ShouldBe(before);
        Done("undo", Root, "--yes");
    }

    [Fact]
    public void What_is_so_already_is_a_success()
    {
        Done("remove", Root, "Weather", "--for", "everyone", "--yes");
        foreach (string[] arguments in new[]
        {
            ["remove", Root, "Weather", "--for", "everyone", "--yes"], ["remove", Root, "weather", "Larkfield.Atlas", "--for", "everyone", "--preview"],
            new[] { "block", Root, Demo.Family("Northlight.Weather"), "--yes" },
        })
            Done(arguments);
        Run("remove", Root, "Weather", "--for", "everyone", "--yes").Error.ShouldMatch(
            @"^Weather is gone from counter-07 since \d{4}-\d\d-\d\d \(restore point 1\)\.\nNothing was changed\.\n$");
        Refused(2, "Put it back with 'moorfield undo", "explain", Root, "Weather");
        Run("bring-back", Root, "Weather", "--for", "ivy", "--preview").Output.ShouldContain("restore point 1");
        Done("undo", Root, "Weather", "--yes");
        Run("undo", Root, "Weather", "--yes").Error.ShouldBe("Weather is back already.\nNothing was changed.\n");
        Run("undo", Root, "--yes").Error.ShouldBe("Every run on counter-07 was undone already. Nothing was changed.\n");
        Refused(2, "took 'Clock'", "undo", Root, "Clock", "--yes");
        Done("bring-back", Root, "Weather", "--for", "ivy", "--yes");
        Refused(2, "No package here is called 'Wetter'", "remove", Root, "Wetter", "--for", "everyone", "--yes");
    }

    [Fact]
    public void Packages_come_back_from_whichever_run_took_them()
    {
        string before = VolumeState.Files(Root);
        Done("remove", Root, "Weather", "Clock", "--for", "everyone", "--yes");
        Done("remove", Root, "Maps", "--for", "everyone", "--yes");
        Run("undo", Root, "Clock", "--preview").Output.ShouldStartWith("Put back on counter-07, from restore point 1 ");
        var both = Run("undo", Root, "Clock", "Maps", "--yes");
        both.ExitCode.ShouldBe(0, both.Error);
        both.Output.ShouldMatch(@"^Undo on counter-07, newest first:\n  2 .*\(only Maps\)\n  1 .*\(only Clock\)\n");
        Run("inventory", Root).Output.ShouldContain("\nClock");
        Run("inventory", Root).Output.ShouldNotContain("\nWeather ");
        Done("undo", Root, "--yes");
        VolumeState.Files(Root).ShouldNotBe("");
        Run("compare", Root, Demo.CopyTo(Folder, "whole")).Output.ShouldContain("Nothing differs.");
        before.ShouldNotBeEmpty();
    }

    [Fact]
    public void Several_accounts_get_back_what_they_lost()
    {
        Done("remove", Root, "Weather", "--for", "everyone", "--yes");
        Refused(2, "Newcomers get back", "undo", Root, "--for", "newcomers", "--yes");
        Done("undo", Root, "Weather", "--for", "ivy,rowan", "--yes");
        var package = Json(Run("explain", Root, "Weather", "--format", "json")).GetProperty("package");
        package.GetProperty("accounts").EnumerateArray().Select(a => a.GetString()).ShouldBe(["ivy", "rowan"], ignoreOrder: true);
        package.GetProperty("newcomers").GetBoolean().ShouldBeFalse();
    }

    [Fact]
    public void Documents_say_the_target_as_typed_and_where_it_is()
    {
        string typed = Path.Combine(Path.GetDirectoryName(Root)!, ".", Path.GetFileName(Root));
        foreach (string[] arguments in new[] { ["inventory", typed], new[] { "guard", typed }, ["block", typed], ["explain", typed, "Clock"],
            ["remove", typed, "Clock", "--for", "ivy", "--preview"], ["forecast", typed, "--sign-in"] })
        {
            var json = Json(Run([.. arguments, "--format", "json"]));
            (json.GetProperty("target").GetString(), json.GetProperty("path").GetString()).ShouldBe((typed, Root), string.Join(' ', arguments));
        }
        var plan = Json(Run("remove", Root, "Clock", "--for", "ivy,newcomers", "--preview", "--format", "json")).GetProperty("for");
        (plan.GetProperty("accounts")[0].GetString(), plan.GetProperty("newcomers").GetBoolean()).ShouldBe(("ivy", true));
    }

    [Fact]
    public void A_failure_is_a_document_as_well()
    {
        foreach (var (reason, exitCode, arguments) in new (string?, int, string[])[]
        {
            ("costsNotAccepted", 5, ["remove", Root, "Picture Viewer", "--for", "everyone", "--yes"]),
            ("readOnly", 5, ["remove", Save("saved", Root), "Clock", "--for", "everyone", "--yes"]),
            (null, 2, ["remove", Root, "Clocck", "--for", "everyone", "--yes"]), (null, 2, ["explain", Root, "Nothing"]),
        })
        {
            var outcome = Run([.. arguments, "--format", "json"]);
            outcome.ExitCode.ShouldBe(exitCode, outcome.Error);
            using var document = System.Text.Json.JsonDocument.Parse(outcome.Output);
            var json = document.RootElement;
            json.GetProperty("schema").GetString().ShouldBe("moorfield.error/1");
            json.GetProperty("exitCode").GetInt32().ShouldBe(exitCode);
            json.GetProperty("reason").GetString().ShouldBe(reason);
            outcome.Error.ShouldContain(json.GetProperty("message").GetString()![..20]);
        }
    }

    [Fact]
    public void What_has_nothing_to_list_is_a_document_as_well()
    {
        string image = Demo.CopyImageTo(Folder), copy = Folder["copy.wim"];
        Done("remove", Root, "Clock", "--for", "ivy", "--yes");
        (string Action, string[] Arguments, string? Target, string Path, string[] Files, int[] Points)[] calls =
        [
            ("restore-point create", ["restore-point", "create", Root], Root, Root, [], [2]),
            ("restore-point pin", ["restore-point", "pin", "1", "--lift"], null, Vault, [], [1]),
            ("restore-point note", ["restore-point", "note", "1", "before"], null, Vault, [], [1]),
            ("restore-point delete", ["restore-point", "delete", "1", "2", "--yes"], null, Vault, [], [1, 2]),
            ("image export", ["image", "export", image, "--edition", "1", "--to", copy, "--compression", "none"], image, image, [copy], []),
            ("image convert", ["image", "convert", image, "--to", Folder["c.wim"], "--compression", "none"], image, image, [Folder["c.wim"]], []),
            ("image split", ["image", "split", image, "--to", Folder["s.swm"]], image, image, [Folder["s.swm"]], []),
            ("image join", ["image", "join", Folder["s.swm"], "--to", Folder["j.wim"]], Folder["s.swm"], Folder["s.swm"], [Folder["j.wim"]], []),
            ("facts", ["facts", Root, "--to", Folder["f"]], Root, Root, [Folder["f"]], []),
            ("brief draft", ["brief", "draft", Root, "--to", Folder["d.yaml"]], Root, Root, [Folder["d.yaml"]], []),
        ];
        foreach (var (action, arguments, target, path, files, points) in calls)
        {
            var outcome = Run([.. arguments, "--format", "json"]);
            outcome.ExitCode.ShouldBe(0, outcome.Error);
            var json = Json(outcome);
            (json.GetProperty("schema").GetString(), json.GetProperty("action").GetString(), json.GetProperty("changed").GetBoolean(),
                json.GetProperty("target").GetString(), json.GetProperty("path").GetString())
                    .ShouldBe(("moorfield.done/1", action, true, target, path));
            json.GetProperty("files").EnumerateArray().Select(f => f.GetString()).ShouldBe(files);
            json.GetProperty("restorePoints").EnumerateArray().Select(f => f.GetInt32()).ShouldBe(points);
            if (files is [var file])
                json.GetProperty("bytes").GetInt64().ShouldBe(new FileInfo(file).Length);
            outcome.Error.ShouldBeEmpty();
        }
        Directory.GetFiles(Path.Combine(Vault, "points"), "*.json").ShouldBeEmpty();
        var finished = Run("restore-point", "finish", Root, "--format", "json");
        Json(finished).GetProperty("changed").GetBoolean().ShouldBeFalse();
        finished.Error.ShouldContain("No run was interrupted");
        Run("brief", "draft", Root, "--format", "json").Error.ShouldContain("--to");
    }

    [Fact]
    public void The_command_that_undoes_names_a_vault_elsewhere()
    {
        string elsewhere = Folder["other vault"];
        Run("remove", Root, "Clock", "--for", "ivy", "--yes", "--vault", elsewhere).Output
            .ShouldContain($"Undo with moorfield undo {Root} 1 --vault '{elsewhere}' (");
        Run("remove", Root, "Weather", "--for", "ivy", "--yes").Output.ShouldContain($"Undo with 'moorfield undo {Root} 1' (");
    }

    [Fact]
    public void A_deletion_is_previewed_as_data()
    {
        Done("remove", Root, "Clock", "--for", "ivy", "--yes");
        var preview = Json(Run("restore-point", "delete", "1", "--preview", "--format", "json"));
        (preview.GetProperty("changed").GetBoolean(), preview.GetProperty("restorePoints")[0].GetInt32()).ShouldBe((false, 1));
        File.Exists(Path.Combine(Vault, "points", "000001.json")).ShouldBeTrue();
        var none = Json(Run("restore-point", "delete", "--older-than", "1d", "--yes", "--format", "json"));
        (none.GetProperty("changed").GetBoolean(), none.GetProperty("restorePoints").GetArrayLength()).ShouldBe((false, 0));
    }

    [Fact]
    public void Restore_points_are_data_as_well()
    {
        Done("remove", Root, "Clock", "--for", "ivy", "--yes", "--note", "a \"note\"");
        var sound = Json(Run("restore-point", "verify", "--format", "json"));
        (sound.GetProperty("schema").GetString(), sound.GetProperty("restorePoints").GetInt32(), sound.GetProperty("sound").GetInt32(),
            sound.GetProperty("faults").GetArrayLength(), sound.GetProperty("mended").GetBoolean())
                .ShouldBe(("moorfield.verification/1", 1, 1, 0, false));
        sound.GetProperty("asRecorded").GetInt32().ShouldBe(sound.GetProperty("contents").GetInt32());
        string[] rows = Run("restore-point", "list", "--format", "csv").Output.Split("\r\n");
        rows[0].ShouldBe("number,created,computer,path,kind,title,state,pinned,note");
        rows[1].ShouldStartWith("1,");
        rows[1].ShouldEndWith($",COUNTER-07,{Root},remove,remove Clock for ivy,inEffect,false,\"a \"\"note\"\"\"");
        foreach (string blob in Directory.GetFiles(Path.Combine(Vault, "blobs"), "*", SearchOption.AllDirectories))
            File.Delete(blob);
        var damaged = Run("restore-point", "verify", "--format", "json");
        damaged.ExitCode.ShouldBe(4);
        using var document = System.Text.Json.JsonDocument.Parse(damaged.Output);
        document.RootElement.GetProperty("sound").GetInt32().ShouldBe(0);
        document.RootElement.GetProperty("faults").EnumerateArray().ShouldAllBe(f => f.GetProperty("number").GetInt32() == 1);
    }

    [Fact]
    public void A_search_looks_at_everything_and_the_plain_list_says_what_it_hides()
    {
        Run("inventory", Root, "--find", "assistant").Output.ShouldContain("\nAssistant");
        Run("inventory", Root, "--standing", "essential").Output.ShouldContain("\nShell Host");
        var plain = Run("inventory", Root).Output;
        plain.ShouldNotContain("\nAssistant");
        plain.ShouldContain("Not shown: 5 frameworks, 7 components (--all), 7 desktop programs (--kind desktop).");
        Regex.Matches(plain, "leftover", RegexOptions.None, Limit).Count.ShouldBe(2); // one line: how many, and the option
    }

    [Fact]
    public void A_block_is_for_a_family_and_is_not_set_while_a_version_stays()
    {
        string old = Json(Run("inventory", Root, "--find", "Battery", "--format", "json")).GetProperty("systems")[0].GetProperty("packages")[0]
            .GetProperty("fullName").GetString()!;
        old.ShouldContain("3.1.0.0");
        var preview = Run("remove", Root, old, "--for", "everyone", "--preview").Output;
        preview.ShouldContain("Battery Keeper 3.1.0.0: no block is set, because version 3.3.0.0 of the same family stays.");
        Done("remove", Root, old, "--for", "everyone", "--yes", "--accept-costs");
        Run("block", Root, "--format", "csv").Output.ShouldNotContain("Battery");
    }

    [Fact]
    public void Open_guards_are_named_where_packages_go_from_newcomers()
    {
        Run("remove", Root, "Clock", "--for", "everyone", "--preview").Output.ShouldContain("Windows may still install apps by itself at a sign-in.");
        Run("remove", Root, "Clock", "--for", "ivy", "--preview").Output.ShouldNotContain("Windows may still");
        string brief = Folder.Write("g.yaml",
            "brief: 1\nfor: everyone\nremove: [Clock]\nguard: [suggested-apps, partner-apps, maker-apps, all-offers, offered-apps]"u8);
        Run("remove", Root, "--brief", brief, "--preview").Output.ShouldNotContain("Windows may still");
    }

    [Fact]
    public void Damage_in_the_vault_is_in_the_preview_of_an_undo()
    {
        string file = Directory.GetFiles(Directory.GetDirectories(At("Program Files/WindowsApps"), "Northlight.Clock_*_x64__*").Single(), "*.exe")[0];
        string hash = Convert.ToHexStringLower(System.Security.Cryptography.SHA256.HashData(File.ReadAllBytes(file)));
        Done("remove", Root, "Weather", "Clock", "--for", "everyone", "--yes");
        string blob = Directory.GetFiles(Path.Combine(Vault, "blobs"), "*", SearchOption.AllDirectories).Single(f => f.Contains(hash[2..]));
        File.WriteAllBytes(blob, [.. File.ReadAllBytes(blob).Select((b, i) => i > 40 ? (byte)(b ^ 0xFF) : b)]);
        Refused(5, "The files of Clock cannot come back", "undo", Root, "--preview");
        Run("undo", Root, "--preview", "--overwrite").Error.ShouldContain("cannot come back");
    }
}
