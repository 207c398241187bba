using Moorfield.Tests;

namespace Moorfield.Cli.Tests;

/// <summary>
/// Kills the real program at random system calls, again while it puts that right, and compares the end with the beginning. MOORFIELD_SOAK says
/// how many rounds, MOORFIELD_SEED where the rounds begin. Killed programs lose nothing that was written: what a power cut loses is tested on
/// a disk of our own (CrashDisk).
/// </summary>
public sealed class SoakTests : CliTest
{
    private static readonly int Rounds = int.TryParse(Environment.GetEnvironmentVariable("MOORFIELD_SOAK"), out int rounds) ? rounds : 6;
    private static readonly int FirstSeed = int.TryParse(Environment.GetEnvironmentVariable("MOORFIELD_SEED"), out int seed) ? seed
        : Random.Shared.Next();

    // Whatever alters a disk, and some of what only looks.
    private static readonly string[] Calls =
        ["pwrite64", "ftruncate", "fsync", "syncfs", "renameat", "unlinkat", "mkdirat", "openat", "utimensat", "fchmodat", "statx", "getdents64",
            "close", "write"];

    // On a disk all is done by one kind of call: the vault's contents, and the blocks.
    private static readonly string[] DiskCalls = ["pwrite64", "pwrite64", "pwrite64", "fsync", "renameat", "unlinkat", "syncfs", "openat"];

    private readonly ITestOutputHelper _output;

    public SoakTests(ITestOutputHelper output) => _output = output;

    private enum Scenario
    {
        RemoveThenUndo,
        RemoveThenFinish,
        LeftoversThenUndo,
        UndoCarriedOn,
        Compact,
        Disk,
        EncryptedDisk,
    }

    [Fact]
    public void However_it_is_killed_the_end_is_the_beginning()
    {
        int killed = 0;
        for (int round = 0; round < Rounds; round++)
        {
            int seed = FirstSeed + round;
            var random = new Random(seed);
            var scenario = (Scenario)(seed % Enum.GetValues<Scenario>().Length);
            string story = $"{scenario}, MOORFIELD_SEED={seed} MOORFIELD_SOAK=1:";
            killed += scenario switch
            {
                Scenario.Compact => CompactRound(random, ref story),
                Scenario.Disk => DiskRound(Demo.CopyDiskTo(Folder, "round.ntfs"), [], random, ref story),
                Scenario.EncryptedDisk => DiskRound(
                    Demo.CopyEncryptedDiskTo(Folder, "round.ntfs"), ["--bitlocker-key", Demo.StartupKey], random, ref story),
                _ => VolumeRound(scenario, random, ref story),
            };
            _output.WriteLine(story);
        }
        killed.ShouldBeGreaterThan(0);
    }

    /// <summary>Runs the program and perhaps kills it at one of its system calls.</summary>
    /// <returns>Whether it was killed.</returns>
    private bool Kill(Random random, ref string story, params string[] arguments)
    {
        string[] calls = IsDisk(arguments) ? DiskCalls : Calls;
        string call = calls[random.Next(calls.Length)];
        int count = Count(call, arguments);
        int when = random.Next(1, count + 2);
        var outcome = RunInjected($"{call}:signal=KILL:when={when}", arguments);
        bool killed = outcome.ExitCode is 137 or 9 or -9;
        story += $" {arguments[0]}{(arguments[1] == "finish" ? " finish" : "")} "
            + $"{(killed ? $"killed at {call} {when} of {count}" : $"ended with {outcome.ExitCode}")};";
        (killed || outcome.ExitCode is 0 or 2).ShouldBeTrue($"{story}\n{outcome.Error}");
        return killed;
    }

    // A guess: that many such calls were seen in runs like these. More than there are only means that nothing is killed.
    private static int Count(string call, string[] arguments) => (call, IsDisk(arguments) ? "disk" : arguments[0]) switch
    {
        ("pwrite64", "disk") => arguments[0] == "undo" ? 205 : 300,
        ("fsync" or "renameat", "disk") => 9,
        ("unlinkat" or "syncfs", "disk") => 2,
        ("openat", "image") => 120,
        ("openat" or "statx" or "close", _) => 900,
        ("pwrite64", "image") => 30,
        ("pwrite64", _) => 160,
        ("ftruncate", _) => 7,
        ("syncfs", _) => 4,
        ("fsync", _) => 40,
        ("renameat" or "unlinkat", _) => 150,
        ("mkdirat", _) => 40,
        ("utimensat" or "fchmodat", _) => 150,
        _ => 120,
    };

    private static bool IsDisk(string[] arguments) => arguments[1].EndsWith(".ntfs", StringComparison.Ordinal);

    private int VolumeRound(Scenario scenario, Random random, ref string story)
    {
        int killed = 0;
        string root = scenario == Scenario.LeftoversThenUndo ? Demo.CopyTo(Folder, "round") : Demo.CopyFewTo(Folder, "round");
        string before = State(root);
        string[] change = scenario == Scenario.LeftoversThenUndo ? ["remove", root, "--leftovers", "--yes"]
            : ["remove", root, "Weather", "Calculator", "--for", "everyone", "--yes", "--accept-costs"];
        if (scenario == Scenario.UndoCarriedOn)
            Run(change).ExitCode.ShouldBe(0, story);
        else if (Kill(random, ref story, change))
            killed++;
        for (int again = random.Next(0, 3); again > 0; again--)
        {
            if (scenario == Scenario.RemoveThenFinish && random.Next(2) == 0)
                killed += Kill(random, ref story, "restore-point", "finish", root) ? 1 : 0;
            else
                killed += Kill(random, ref story, "undo", root, "--yes") ? 1 : 0;
        }
        if (scenario == Scenario.RemoveThenFinish && File.Exists(Path.Combine(root, ".moorfield-run.json")))
            Run("restore-point", "finish", root).ExitCode.ShouldBe(0, story);
        UndoAll(root, story);
        string[] after = State(root).Split('\n');
        after.Except(before.Split('\n')).Concat(before.Split('\n').Except(after)).Take(6).ShouldBeEmpty(story);
        Run("restore-point", "list").Output.ShouldNotContain("interrupted", Case.Sensitive, story);
        Tool.Read("find", root, "-name", ".moorfield*").ShouldBeEmpty(story);
        Tool.Read("rm", "-rf", root, Vault);
        return killed;
    }

    /// <summary>Undoes until nothing is left to undo. 2: no run ever recorded anything.</summary>
    private void UndoAll(string root, string story)
    {
        for (int runs = 0; runs < 10; runs++)
        {
            var undone = Run("undo", root, "--yes");
            if (undone.ExitCode == 2)
                return;
            undone.ExitCode.ShouldBe(0, $"{story}\n{undone.Error}");
            if (undone.Error.Contains("was undone already", StringComparison.Ordinal))
                return;
        }
        Assert.Fail($"{story} does not come to an end");
    }

    // The root's own time is that of the marker's deletion, when the program was killed right behind it.
    private static string State(string root) =>
        string.Join('\n', VolumeState.Files(root).Split('\n').Where(l => !l.StartsWith(".|", StringComparison.Ordinal)));

    private int DiskRound(string disk, string[] key, Random random, ref string story)
    {
        byte[] before = File.ReadAllBytes(disk);
        int killed = 0;
        for (int i = 0; i < 3; i++)
        {
            bool there = Run(["inventory", disk, "--find", "Weather", .. key]).Output.Contains("4.53", StringComparison.Ordinal);
            string[] call = there ? ["remove", disk, "Weather", "--for", "everyone", "--yes", .. key] : ["undo", disk, "--yes", .. key];
            killed += Kill(random, ref story, call) ? 1 : 0;
        }
        if (!Run(["inventory", disk, "--find", "Weather", .. key]).Output.Contains("4.53", StringComparison.Ordinal))
            Run(["undo", disk, "--yes", .. key]).ExitCode.ShouldBe(0, story);
        File.ReadAllBytes(disk).AsSpan().SequenceEqual(before).ShouldBeTrue(story);
        Directory.GetFiles(Folder.Path, ".*").Where(f => !f.EndsWith(".part", StringComparison.Ordinal)).ShouldBeEmpty(story);
        // What a killed run was writing beside the disk goes with the next run on it.
        Tool.Read("rm", ["-rf", disk, Vault, .. Directory.GetFiles(Folder.Path, ".*.part")]);
        return killed;
    }

    private int CompactRound(Random random, ref string story)
    {
        string image = Demo.CopyImageTo(Folder, "round.wim");
        int killed = Kill(random, ref story, "remove", image, "Weather", "--yes") ? 1 : 0;
        var before = WimSource.Details(image, 1).Keys.Order(StringComparer.Ordinal).ToList();
        killed += Kill(random, ref story, "image", "compact", image, "--yes") ? 1 : 0;
        WimSource.Verify(image);
        WimSource.Details(image, 1).Keys.Order(StringComparer.Ordinal).ToList().ShouldBe(before, story);
        Run("image", "compact", image, "--yes").ExitCode.ShouldBe(0, story);
        WimSource.Verify(image);
        WimSource.Details(image, 1).Keys.Order(StringComparer.Ordinal).ToList().ShouldBe(before, story);
        Directory.GetFiles(Folder.Path, ".*").ShouldBeEmpty(story);
        Tool.Read("rm", "-rf", image, Vault);
        return killed;
    }
}
