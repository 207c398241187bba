using Moorfield.StandIn;
using Moorfield.Tests;

namespace Moorfield.Cli.Tests;

/// <summary>Processes that are signalled or killed, and terminals that go away: nothing goes on unseen, and nothing aborts.</summary>
public sealed class SignalTests : CliTest
{
    private string VirtualDisk()
    {
        string volume = Demo.CopyDiskTo(Folder);
        DiskBuilder.Partitioned(volume, Folder["disk.raw"]);
        Tool.Read("qemu-img", "convert", "-f", "raw", "-O", "qcow2", Folder["disk.raw"], Folder["counter.qcow2"]);
        return Folder["counter.qcow2"];
    }

    /// <summary>Puts a script in front of qemu-nbd; gives the search path.</summary>
    private string Instead(string script)
    {
        string place = Directory.CreateDirectory(Folder["bin"]).FullName;
        string program = Path.Combine(place, "qemu-nbd");
        File.WriteAllText(program, "#!/bin/sh\n" + script);
        File.SetUnixFileMode(program, UnixFileMode.UserRead | UnixFileMode.UserExecute);
        return $"{place}:{Environment.GetEnvironmentVariable("PATH")}";
    }

    private ToolResult RunWith(string path, params string[] arguments) => Tool.Run(
        "env", [$"PATH={path}", .. Command(arguments)], Surroundings, null);

    [Fact]
    public void When_the_first_process_is_killed_the_second_and_the_disks_server_go_with_it()
    {
        string disk = VirtualDisk();
        string server = Tool.Read("sh", "-c", "command -v qemu-nbd").Trim();
        // The server that writes kills the process that a person started, which is the parent of its parent, and stays.
        string path = Instead($"""
            case "$*" in *--read-only*) exec {server} "$@" ;; esac
            exec 9>'{Folder["alive"]}'
            flock 9
            kill -KILL "$(ps -o ppid= -p $PPID | tr -d ' ')"
            exec {server} "$@"
            """);
        // Both processes have the output that is read to its end here, and the server the lock: when these end, all have.
        RunWith(path, "remove", disk, "Weather", "--for", "everyone", "--yes").ExitCode.ShouldBe(137);
        Tool.Run("flock", "-w", "30", Folder["alive"], "true").ExitCode.ShouldBe(0);
        // Nothing keeps it locked, and what was begun is put right.
        Run("undo", disk, "--yes").ExitCode.ShouldBeOneOf(0, 2);
        var removed = Run("remove", disk, "Weather", "--for", "everyone", "--yes");
        removed.ExitCode.ShouldBe(0, removed.Error);
        Run("undo", disk, "--yes").ExitCode.ShouldBe(0);
        Run("restore-point", "list").Output.ShouldNotContain("interrupted");
    }

    [Theory]
    [InlineData("-INT")]
    [InlineData("-TERM")]
    [InlineData("-HUP")]
    public void A_signal_to_the_first_process_alone_ends_a_run_on_a_disk(string signal)
    {
        string disk = Demo.CopyDiskTo(Folder);
        byte[] before = File.ReadAllBytes(disk);
        var outcome = RunInTerminal(null, () => Tool.Run("pkill", signal, "-o", "-f", $"^{Command([])[0]} remove {disk}"), "remove", disk, "Weather",
            "--for", "everyone");
        outcome.ExitCode.ShouldBe(130, outcome.Output);
        File.ReadAllBytes(disk).AsSpan().SequenceEqual(before).ShouldBeTrue();
    }

    [Fact]
    public void A_hang_up_leaves_no_parts_of_what_was_being_built()
    {
        string image = Demo.CopyImageTo(Folder);
        ToolResult outcome;
        int tries = 0;
        do
        {
            // The thread that takes note of a signal may come too late for what is so small, which is whole then.
            outcome = RunInjected("mkdirat:signal=HUP:when=1", "image", "export", image, "--edition", "1", "--to", Folder["one.wim"]);
            if (outcome.ExitCode == 0)
                File.Delete(Folder["one.wim"]);
            Directory.GetFileSystemEntries(Folder.Path, ".*moorfield*").ShouldBeEmpty();
        }
        while (outcome.ExitCode == 0 && ++tries < 20);
        outcome.ExitCode.ShouldBe(130, outcome.Error);
        File.Exists(Folder["one.wim"]).ShouldBeFalse();
    }

    [Fact]
    public void A_terminal_that_is_closed_while_packages_are_picked_ends_the_program_without_an_abort()
    {
        // Reads until the first screen is drawn, closes the terminal, and says how the program ended: below 0 by a signal.
        const string Close = """
            import os, pty, sys
            child, terminal = pty.fork()
            if child == 0:
                os.execv(sys.argv[1], sys.argv[1:])
            seen = b""
            while b"Find:" not in seen:
                seen += os.read(terminal, 65536)
            os.close(terminal)
            print(os.waitstatus_to_exitcode(os.waitpid(child, 0)[1]))
            """;
        string before = VolumeState.Files(Root);
        var surroundings = Surroundings;
        surroundings["TERM"] = "xterm";
        var outcome = Tool.Run("python3", ["-c", Close, .. Command(["pick", Root])], surroundings, null);
        int.Parse(outcome.Output).ShouldBeOneOf(0, 1, 130);
        VolumeState.Files(Root).ShouldBe(before);
    }
}
