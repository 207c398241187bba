using System.Diagnostics;
using System.Security.Cryptography;
using System.Text.Json.Nodes;
using Moorfield.StandIn;
using Moorfield.Tests;

namespace Moorfield.Cli.Tests;

/// <summary>
/// Random chains of runs on folders, raw disks, virtual disks and images, each run killed or not, some on a full disk, some under a second name
/// of the target, some with a copy beside it or another process at work on the same vault. In the end everything is undone, and the whole of
/// the target is what it was. MOORFIELD_CHAINS says how many chains, MOORFIELD_SEED where they begin.
/// </summary>
public sealed class ChainTests : CliTest
{
    private const int MaxUndos = 40;
    private static readonly int Chains = int.TryParse(Environment.GetEnvironmentVariable("MOORFIELD_CHAINS"), out int chains) ? chains : 4;
    private static readonly int FirstSeed = int.TryParse(Environment.GetEnvironmentVariable("MOORFIELD_SEED"), out int seed) ? seed
        : Random.Shared.Next();

    private static readonly string[] Calls =
        ["pwrite64", "pwrite64", "fsync", "syncfs", "renameat", "unlinkat", "mkdirat", "openat", "ftruncate", "write", "flock", "close", "sendto"];

    private static readonly string[] Families = ["Weather", "Calculator", "Larkfield Crossword"];
    private readonly ITestOutputHelper _output;
    private Random _random = new();
    private string _story = "";
    private int _killed;
    private long _length; // of the image in the beginning
    private bool _isByChanges;

    public ChainTests(ITestOutputHelper output) => _output = output;

    private enum Kind
    {
        Folder,
        Raw,
        Virtual,
        Image,
    }

    [Fact]
    public void Whatever_was_done_and_however_it_ended_all_of_it_is_undone()
    {
        for (int i = 0; i < Chains; i++)
        {
            int seed = FirstSeed + i;
            _random = new Random(seed);
            var kind = (Kind)(seed % 4);
            _story = $"{kind}, MOORFIELD_SEED={seed} MOORFIELD_CHAINS=1:";
            try
            {
                Chain(kind);
            }
            catch (Exception e) when (e is not ShouldAssertException)
            {
                Assert.Fail($"{_story}\n{e}");
            }
            _output.WriteLine(_story);
            Tool.Read("sh", "-c", "rm -rf \"$0\"/chain* \"$0\"/.chain* \"$0\"/vault \"$0\"/twin* \"$0\"/other", Folder.Path);
        }
        _output.WriteLine($"{Chains} chains, {_killed} kills");
        (_killed > 0 || Chains < 20).ShouldBeTrue();
    }

    private void Chain(Kind kind)
    {
        bool hasTwins = kind == Kind.Folder && _random.Next(3) == 0;
        _story += hasTwins ? " with twins;" : "";
        string target = Make(kind, hasTwins);
        (_length, _isByChanges) = (0, false);
        string before = State(kind, target);
        string other = Demo.CopyFewTo(Folder, "other");
        string others = VolumeState.Files(other);
        for (int steps = _random.Next(2, 7), step = 0; step < steps; step++)
        {
            string name = _random.Next(4) == 0 ? Second(target) : target;
            using var neighbour = _random.Next(5) == 0 ? Neighbour(other) : null;
            if (Step(Command(kind, name, isFirst: step == 0)))
            {
                if (_random.Next(4) == 0)
                    LookAtACopy(kind, target);
                for (int again = _random.Next(3); again > 0; again--)
                    Step(_random.Next(3) == 0 && kind == Kind.Folder ? ["restore-point", "finish", name] : ["undo", name, "--yes"]);
            }
            neighbour?.WaitForExit();
        }
        UndoAll(target);
        UndoAll(other);
        // What was undone out of its order went back by its changes, not as whole files or blocks: the same to those who read it. So does a
        // run on an image when what a killed run appended lies behind it.
        if ((_isByChanges || kind == Kind.Image) && State(kind, target) != before)
        {
            string content = Content(kind, target);
            Tool.Read("rm", "-rf", target);
            Make(kind, hasTwins);
            Same(Content(kind, target), content);
        }
        else
            Same(before, State(kind, target));
        Same(others, VolumeState.Files(other));
        Run("restore-point", "list").Output.ShouldNotContain("interrupted", Case.Sensitive, _story);
        if (Directory.Exists(Path.Combine(Vault, "points")))
        {
            Run("restore-point", "verify", "--mend").ExitCode.ShouldBe(0, _story);
            Run("restore-point", "verify").ExitCode.ShouldBe(0, _story);
        }
        Directory.GetFileSystemEntries(Folder.Path, ".*moorfield*").ShouldBeEmpty(_story);
        Tool.Read("find", Folder.Path, "-name", ".moorfield*").ShouldBeEmpty(_story);
    }

    private string Make(Kind kind, bool hasTwins)
    {
        switch (kind)
        {
            case Kind.Folder:
                string root = Demo.CopyFewTo(Folder, "chain");
                if (hasTwins)
                    AddTwins(root);
                return root;
            case Kind.Image:
                return Demo.CopyImageTo(Folder, "chain.wim");
            default:
                string volume = Demo.CopyDiskTo(Folder, "chain.ntfs");
                if (kind == Kind.Raw)
                    return volume;
                DiskBuilder.Partitioned(volume, Folder["chain.raw"]);
                Tool.Read("qemu-img", "convert", "-f", "raw", "-O", "qcow2", Folder["chain.raw"], Folder["chain.qcow2"]);
                File.Delete(Folder["chain.raw"]);
                File.Delete(volume);
                return Folder["chain.qcow2"];
        }
    }

    // Names that differ in case only, as copies on Linux file systems have them.
    private static void AddTwins(string root)
    {
        string package = Directory.GetDirectories(Path.Combine(root, "Program Files/WindowsApps"), "Northlight.Weather_*_x64__*").First();
        File.WriteAllText(Path.Combine(package, "Twin.dat"), "one");
        File.WriteAllText(Path.Combine(package, "twin.dat"), "the other");
    }

    private void Same(string before, string after)
    {
        string[] old = before.Split('\n'), now = after.Split('\n');
        old.Except(now).Select(l => "- " + l).Concat(now.Except(old).Select(l => "+ " + l)).Take(8).ShouldBeEmpty(_story);
    }

    /// <summary>The whole of a target. A folder's own time is that of a marker's deletion, where a run was killed right behind it.</summary>
    private string State(Kind kind, string target)
    {
        switch (kind)
        {
            case Kind.Folder:
                return string.Join('\n', VolumeState.Files(target).Split('\n').Where(l => !l.StartsWith(".|", StringComparison.Ordinal)));
            case Kind.Virtual:
                string raw = target + ".read";
                // 3: a server that was killed left clusters that nothing uses, as it may.
                Tool.Run("qemu-img", "check", "-q", target).ExitCode.ShouldBeOneOf(0, 3);
                Tool.Read("qemu-img", "convert", "-O", "raw", target, raw);
                string digest = Digest(raw);
                File.Delete(raw);
                return digest;
            case Kind.Image:
                // What a killed run had appended stays behind the end, as docs/architecture.md says.
                _length = _length > 0 ? _length : new FileInfo(target).Length;
                using (var stream = File.OpenRead(target))
                {
                    byte[] image = new byte[_length];
                    stream.ReadExactly(image);
                    return Convert.ToHexString(SHA256.HashData(image));
                }
            default:
                return Digest(target);
        }
    }

    /// <summary>What is in a target for those who read it. Hives and databases are told by their contents, and no times.</summary>
    private string Content(Kind kind, string target)
    {
        string read = Run("inventory", target, "--all", "--format", "json").Output + Run("block", target).Output;
        switch (kind)
        {
            case Kind.Folder:
                return Contents(target) + read;
            case Kind.Raw:
                string mount = Directory.CreateDirectory(Folder["mount"]).FullName;
                if (Tool.Run("ntfs-3g", "-o", "ro", target, mount).ExitCode != 0)
                    return read; // nobody may mount here
                try
                {
                    return Contents(mount) + read;
                }
                finally
                {
                    Tool.Read("umount", mount);
                }
            case Kind.Image:
                WimSource.Verify(target);
                return string.Join('\n', Enumerable.Range(1, 4).SelectMany(edition => WimSource.Details(target, edition)
                    .Where(d => !Changed.Any(c => d.Key.Contains(c, StringComparison.OrdinalIgnoreCase)))
                    .OrderBy(d => d.Key, StringComparer.Ordinal).Select(d => $"{edition} {d.Value}")).Append(read));
            default:
                return read;
        }
    }

    private static readonly string[] Changed =
        ["/System32/config/", "/AppRepository/StateRepository", "NTUSER.DAT", "UsrClass.dat", "LayoutModification"];

    private static string Contents(string root) => string.Join('\n', Tool.Read("sh", "-c",
            "cd \"$0\" && find . -printf '%p|%y|%l\\n' && find . -type f -print0 | xargs -0 sha256sum", root).Split('\n')
        .Where(l => !Changed.Any(c => l.Contains(c, StringComparison.OrdinalIgnoreCase))).Order(StringComparer.Ordinal)) + VolumeState.Contents(root);

    private static string Digest(string file)
    {
        using var stream = File.OpenRead(file);
        return Convert.ToHexString(SHA256.HashData(stream));
    }

    private string[] Command(Kind kind, string name, bool isFirst)
    {
        string family = Families[_random.Next(Families.Length)];
        string account = kind == Kind.Image ? "newcomers" : _random.Next(2) == 0 ? "ivy" : "everyone";
        return _random.Next(isFirst ? 7 : 10) switch
        {
            0 or 1 or 2 or 3 => ["remove", name, family, "--for", account, "--yes", "--accept-costs"],
            4 => ["block", name, family, "--yes"],
            5 when kind != Kind.Image => ["bring-back", name, family, "--for", "ivy", "--yes"],
            6 => ["restore-point", "create", name, .. _random.Next(2) == 0 ? new[] { "--with-files" } : []],
            7 when Numbers(name) is { Length: > 0 } own => ["undo", name, $"{own[_random.Next(own.Length)]}", "--yes"],
            _ => ["undo", name, "--yes"],
        };
    }

    /// <summary>
    /// The runs on a target itself, as the system beside it has the same identifier. Undos and states are not among them: a plain undo does not
    /// take back what going back to those did.
    /// </summary>
    private int[] Numbers(string target)
    {
        var list = Run("restore-point", "list", target, "--format", "json");
        return list.ExitCode != 0 ? []
            : [.. JsonNode.Parse(list.Output)!["restorePoints"]!.AsArray()
                .Where(p => !((string)p!["path"]!).EndsWith("/other", StringComparison.Ordinal) 
                    && (string)p["kind"]! is not ("undo" or "record"))
                .Select(p => (int)p!["number"]!)];
    }

    /// <summary>The same target under another name: a link to it.</summary>
    private string Second(string target)
    {
        string link = Folder["twin" + Path.GetExtension(target)];
        if (!Path.Exists(link))
            File.CreateSymbolicLink(link, target);
        return link;
    }

    /// <summary>Somebody else who works with the same vault on another system.</summary>
    private Process Neighbour(string other)
    {
        _story += " beside another,";
        var start = new ProcessStartInfo("sh", ["-c",
            "\"$0\" remove \"$1\" Weather --for everyone --yes --accept-costs --log none; "
            + "\"$0\" undo \"$1\" --yes --log none", Command([])[0], other])
        {
            UseShellExecute = false, RedirectStandardOutput = true, RedirectStandardError = true,
        };
        foreach (var (name, value) in Surroundings)
            start.Environment[name] = value;
        var process = Process.Start(start)!;
        process.BeginOutputReadLine();
        process.BeginErrorReadLine();
        return process;
    }

    /// <summary>A copy of an interrupted disk or image is looked at: that must change nothing for the original.</summary>
    private void LookAtACopy(Kind kind, string target)
    {
        if (kind == Kind.Folder)
            return;
        string copy = Folder["chain-copy" + Path.GetExtension(target)];
        string[] markers = Directory.GetFiles(Folder.Path, $".{Path.GetFileName(target)}.moorfield*");
        string before = Digest(target);
        File.Copy(target, copy);
        foreach (string marker in markers)
            File.Copy(marker, Folder[Path.GetFileName(marker).Replace(Path.GetFileName(target), Path.GetFileName(copy), StringComparison.Ordinal)]);
        Run("inventory", copy);
        Digest(target).ShouldBe(before, _story);
        Directory.GetFiles(Folder.Path, $".{Path.GetFileName(target)}.moorfield*").ShouldBe(markers, ignoreOrder: true, _story);
        foreach (string file in Directory.GetFiles(Folder.Path, $"*{Path.GetFileName(copy)}*"))
            File.Delete(file);
        _story += " looked at a copy;";
    }

    /// <summary>One run, killed, short of room or whole.</summary>
    /// <returns>Whether it did not end by itself.</returns>
    private bool Step(string[] arguments)
    {
        string shown = string.Join(' ', arguments.Select(a => Path.GetFileName(a)));
        bool isImage = arguments.Any(a => a.EndsWith(".wim", StringComparison.Ordinal));
        int fate = _random.Next(10);
        string call = fate < 6 ? Calls[_random.Next(Calls.Length)] : _random.Next(3) == 0 ? "mkdirat" : "pwrite64";
        string injection = fate < 6 ? $"{call}:signal=KILL:when={When(call)}"
            : fate == 6 ? $"{call}:error=ENOSPC:when={When(call)}+"
            : fate == 7 ? "fdatasync:signal=KILL:when=1" : ""; // qemu-nbd, which flushes for us
        var outcome = injection.Length == 0 ? Run(arguments) : RunInjected(injection, arguments);
        bool killed = outcome.ExitCode is 137 or 9 or -9;
        _killed += killed ? 1 : 0;
        _isByChanges |= arguments[0] == "undo" && int.TryParse(arguments[2], out _) && outcome.ExitCode != 2;
        _story += $" {shown} {(killed ? "killed at " + injection : $"{injection} ended with {outcome.ExitCode}")};";
        (killed || outcome.ExitCode is >= 0 and <= 5 || (isImage && outcome.ExitCode == 1)).ShouldBeTrue($"{_story}\n{outcome.Error}");
        outcome.Error.ShouldNotContain("should not have happened", Case.Insensitive, _story);
        outcome.Error.ShouldNotContain("   at ", Case.Sensitive, $"{_story}\n{outcome.Error}");
        return killed || outcome.ExitCode == 1;
    }

    // As far as such calls were seen in runs like these, and a little further.
    private int When(string call) => call switch
    {
        "openat" or "close" => _random.Next(1, 500),
        "pwrite64" => _random.Next(1, 160),
        "write" or "sendto" or "renameat" or "unlinkat" => _random.Next(1, 60),
        "ftruncate" or "syncfs" => _random.Next(1, 4),
        "flock" => _random.Next(1, 6),
        _ => _random.Next(1, 20),
    };

    private void UndoAll(string target)
    {
        for (int i = 0; i < MaxUndos; i++)
        {
            var outcome = Run("undo", target, "--yes");
            if (outcome.ExitCode == 2 || outcome.Error.Contains("was undone already", StringComparison.Ordinal))
                return;
            outcome.ExitCode.ShouldBe(0, $"{_story}\n{outcome.Output}{outcome.Error}");
        }
        Assert.Fail($"{_story} does not come to an end");
    }
}
