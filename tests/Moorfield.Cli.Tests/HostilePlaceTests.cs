using System.Text.Json.Nodes;
using Moorfield.Tests;

namespace Moorfield.Cli.Tests;

/// <summary>Places and names that people and machines come up with: pipes, links, clones, full devices, names that a shell would act on.</summary>
public sealed class HostilePlaceTests : CliTest
{
    private ToolResult Shell(string script, params string[] arguments) => Tool.Run("sh", ["-c", script, Command([])[0], .. arguments],
        Surroundings, null);

    [Fact]
    public void Hints_to_copy_are_quoted_for_the_shell()
    {
        const string Name = "a $(touch ran); 'b'";
        Demo.CopyFewTo(Folder, Name);
        string root = Folder[Name];
        var removed = Run("remove", root, "Weather", "--for", "everyone", "--yes");
        removed.ExitCode.ShouldBe(0, removed.Error);
        // The command between the marks of the sentence, as somebody copies it.
        string hint = removed.Output.Split('\n').Single(l => l.Contains("undo", StringComparison.Ordinal) && l.Contains("restore point 1"));
        string command = hint[(hint.IndexOf("moorfield undo", StringComparison.Ordinal) + "moorfield ".Length)..];
        command = command[..command.LastIndexOf(" (restore point 1", StringComparison.Ordinal)];
        var undone = Tool.Run("sh", ["-c", $"\"$0\" {command} --yes", Command([])[0]], Surroundings, null, Folder.Path);
        undone.ExitCode.ShouldBe(0, hint + undone.Error);
        File.Exists(Folder["ran"]).ShouldBeFalse();
        Run("inventory", root, "--find", "Weather").Output.ShouldContain("Weather");
    }

    [Theory]
    [InlineData("remove ROOT --brief PIPE --for everyone --yes", "is a pipe")]
    [InlineData("brief show PIPE --on ROOT", "is a pipe")]
    [InlineData("bring-back ROOT Weather --for ivy --from PIPE --yes", "is a pipe")]
    [InlineData("block ROOT --to PIPE", "is a pipe")]
    [InlineData("image list PIPE", "PIPE")]
    [InlineData("inventory PIPE", "PIPE")]
    public void Pipes_are_refused_at_once(string line, string said)
    {
        Tool.Read("mkfifo", Folder["PIPE"]);
        var outcome = Run([.. line.Split(' ').Select(w => w switch { "ROOT" => Root, "PIPE" => Folder["PIPE"], _ => w })]);
        outcome.ExitCode.ShouldBe(2, outcome.Output + outcome.Error);
        outcome.Error.ShouldContain(said);
        outcome.Error.TrimEnd().Split('\n').Length.ShouldBe(1, outcome.Error);
    }

    [Fact]
    public void A_run_log_that_is_a_pipe_is_told_and_the_run_is_done()
    {
        Tool.Read("mkfifo", Folder["pipe"]);
        var outcome = Run("remove", Root, "Weather", "--for", "ivy", "--yes", "--log", Folder["pipe"]);
        outcome.ExitCode.ShouldBe(0, outcome.Error);
        outcome.Error.ShouldContain("cannot be written: it is a pipe");
    }

    [Fact]
    public void With_both_outputs_full_it_ends_with_a_code_and_no_abort()
    {
        Shell("\"$0\" inventory \"$1\" >/dev/full 2>/dev/full", Root).ExitCode.ShouldBe(1);
        Shell("\"$0\" inventory /nowhere >/dev/full 2>/dev/full").ExitCode.ShouldBeOneOf(1, 2);
        Shell("\"$0\" inventory \"$1\" >/dev/full", Root).Error.ShouldContain("No space left on device");
    }

    [Fact]
    public void A_path_that_is_not_UTF8_gets_a_sentence_of_its_own()
    {
        var outcome = Shell("cp -r \"$1\" \"$2/$(printf 'caf\\351')\" && \"$0\" inventory \"$2/$(printf 'caf\\351')\"", Demo.CopyFewTo(Folder, "few"),
            Folder.Path);
        outcome.ExitCode.ShouldBe(2, outcome.Error);
        outcome.Error.ShouldContain("is not valid UTF-8");
    }

    [Fact]
    public void Ages_before_the_first_year_are_as_far_back_as_there_is()
    {
        Run("remove", Root, "Weather", "--for", "ivy", "--yes").ExitCode.ShouldBe(0);
        var outcome = Run("restore-point", "delete", "--older-than", "3000y", "--yes");
        outcome.ExitCode.ShouldBeOneOf([0, 2], outcome.Error);
        outcome.Error.ShouldNotContain("should not have happened");
        Run("restore-point", "list").Output.ShouldContain("remove Weather");
    }

    [Fact]
    public void A_missing_folder_for_temporary_files_is_named()
    {
        var outcome = Tool.Run("env", [$"TMPDIR={Folder["nowhere"]}", .. Command(["inventory", Root])], Surroundings, null);
        outcome.ExitCode.ShouldBe(0, outcome.Error); // nothing but databases that are being written needs it
        string disk = Demo.CopyDiskTo(Folder);
        Tool.Read("qemu-img", "convert", "-O", "qcow2", disk, Folder["counter.qcow2"]);
        outcome = Tool.Run("env", [$"TMPDIR={Folder["nowhere"]}", .. Command(["inventory", Folder["counter.qcow2"]])], Surroundings, null);
        outcome.ExitCode.ShouldBe(1, outcome.Output);
        outcome.Error.ShouldContain(Folder["nowhere"]);
        outcome.Error.ShouldContain("TMPDIR");
    }

    [Theory]
    [InlineData(false)]
    [InlineData(true)]
    public void A_vault_inside_the_target_is_refused_whatever_leads_there(bool byMount)
    {
        string inside = Directory.CreateDirectory(Path.Combine(Root, "Users/ivy/backup")).FullName, outside = Folder["outside"];
        string before = VolumeState.Files(Root);
        if (byMount)
        {
            Directory.CreateDirectory(outside);
            Assert.SkipUnless(Tool.Run("mount", "--bind", inside, outside).ExitCode == 0, "This machine lets nobody mount.");
        }
        else
            Directory.CreateSymbolicLink(outside, inside);
        try
        {
            string[][] commands = [["remove", Root, "Weather", "--for", "everyone", "--yes"], ["restore-point", "create", Root]];
            foreach (string[] command in commands)
            {
                var outcome = Run([.. command, "--vault", Path.Combine(outside, "vault")]);
                outcome.ExitCode.ShouldBe(2, outcome.Output + outcome.Error);
                outcome.Error.ShouldContain("inside");
            }
        }
        finally
        {
            if (byMount)
                Tool.Read("umount", outside);
        }
        VolumeState.Files(Root).ShouldBe(before);
    }

    [Fact]
    public void An_image_whose_run_was_killed_before_its_point_was_closed_is_settled_by_looking()
    {
        foreach (string[] look in new[] { new[] { "restore-point", "list" }, ["restore-point", "finish", "IMAGE"], ["undo", "IMAGE", "--yes"] })
        {
            string image = Demo.CopyImageTo(Folder);
            // Behind the new header only the journal's last line is missing.
            byte[] header = Header(image);
            bool isBetween = false;
            for (int when = 1; when < 20 && !isBetween; when++)
            {
                Tool.Read("rm", "-rf", Vault, image);
                Demo.CopyImageTo(Folder);
                RunInjected($"fsync:signal=KILL:when={when}", "remove", image, "Weather", "--yes");
                string journal = Path.Combine(Vault, "points/000001.journal");
                isBetween = File.Exists(journal) && !File.ReadAllText(journal).Contains("finished") && !Header(image).SequenceEqual(header);
            }
            isBetween.ShouldBeTrue();
            Run([.. look.Select(w => w == "IMAGE" ? image : w)]).ExitCode.ShouldBeOneOf(0, 2);
            Run("restore-point", "list").Output.ShouldNotContain("interrupted");
        }

        static byte[] Header(string image)
        {
            using var file = File.OpenRead(image);
            byte[] header = new byte[208];
            file.ReadExactly(header);
            return header;
        }
    }

    [Fact]
    public void Looking_at_a_clone_of_an_interrupted_device_leaves_the_device_to_be_put_back()
    {
        string volume = Demo.CopyDiskTo(Folder), clone = Folder["clone.ntfs"];
        string? device = Attach(volume);
        Assert.SkipWhen(device is null, "This machine has no loop devices.");
        string? other = null;
        try
        {
            byte[] before = File.ReadAllBytes(volume);
            RunInjected("pwrite64:signal=KILL:when=260", "remove", device, "Weather", "--for", "everyone", "--yes").ExitCode.ShouldNotBe(0);
            byte[] between = File.ReadAllBytes(volume);
            between.AsSpan().SequenceEqual(before).ShouldBeFalse();
            File.Copy(volume, clone);
            other = Attach(clone)!;
            Run("inventory", other);
            File.ReadAllBytes(clone).AsSpan().SequenceEqual(between).ShouldBeTrue();
            File.ReadAllBytes(volume).AsSpan().SequenceEqual(between).ShouldBeTrue();
            Run("undo", device, "--yes").ExitCode.ShouldBeOneOf(0, 2);
            File.ReadAllBytes(volume).AsSpan().SequenceEqual(before).ShouldBeTrue();
            // By its number, the clone can be put back as well: each block there is as before the run, or as after it.
            Run("undo", other, "1", "--yes").ExitCode.ShouldBe(0);
            File.ReadAllBytes(clone).AsSpan().SequenceEqual(before).ShouldBeTrue();
        }
        finally
        {
            foreach (string attached in new[] { device, other }.OfType<string>())
                Tool.Run("losetup", "-d", attached);
        }

        static string? Attach(string file)
        {
            var outcome = Tool.Run("losetup", "-f", "--show", file);
            return outcome.ExitCode == 0 ? outcome.Output.Trim() : null;
        }
    }

    [Fact]
    public void A_survey_with_null_in_a_list_gets_a_sentence()
    {
        string survey = Moorfield.StandIn.World.WriteSurveys(Directory.CreateDirectory(Folder["surveys"]).FullName).First();
        var json = JsonNode.Parse(File.ReadAllText(survey))!;
        json["packages"]!.AsArray().Insert(1, null);
        File.WriteAllText(survey, json.ToJsonString());
        var outcome = Run("inventory", survey);
        (outcome.ExitCode, outcome.Error.TrimEnd().Split('\n').Length).ShouldBe((2, 1), outcome.Error);
        outcome.Error.ShouldContain("is damaged");
    }
}
