using Moorfield.Core.Transactions;
using Moorfield.Formats.Native;

namespace Moorfield.Cli.Commands;

/// <summary>Arguments and options that several commands share.</summary>
internal static class Common
{
    /// <param name="saved">True if a saved inventory will do.</param>
    internal static Argument<string> TargetArgument(bool saved = false) => new("TARGET")
    {
        Description = saved ? "A disk, partition, virtual disk or folder with an offline Windows, a WIM, ESD or ISO file, a survey of a "
            + "running one, or a saved inventory"
            : "A disk, partition, virtual disk or folder with an offline Windows, or a WIM file",
    };

    /// <summary>Belongs to every command.</summary>
    internal static readonly Option<int?> Partition = new("--partition")
    {
        Description = "Partition of a disk that has several with Windows",
        HelpName = "N",
        Recursive = true,
    };

    /// <summary>Belongs to every command.</summary>
    internal static readonly Option<string[]> BitLockerKey = new("--bitlocker-key")
    {
        Description = "File or folder with keys of encrypted disks, or - (repeatable)",
        HelpName = "FILE",
        Recursive = true,
    };

    /// <summary>Belongs to every command.</summary>
    internal static readonly Option<string[]> BackingIn = new("--backing-in")
    {
        Description = "Folder in which a virtual disk's further files may lie (repeatable)",
        HelpName = "DIR",
        Recursive = true,
    };

    /// <summary>Belongs to every command.</summary>
    internal static readonly Option<string[]> Language = new("--language")
    {
        Description = "Language of names, such as de-DE (default: the system's)",
        HelpName = "TAG",
        Recursive = true,
    };

    internal static Option<string?> Maker() =>
    new("--maker") { Description = "Maker of the machines, whose packages have the origin maker", HelpName = "NAME" };

    internal static Option<string?> Start()
    {
        var option = new Option<string?>("--start")
        { Description = "What costs nothing (free), or what such a machine does without: docs/starting-briefs.md", HelpName = "KIND" };
        option.AcceptOnlyFromAmong([.. Enum.GetNames<StartingKind>().Select(n => n.ToLowerInvariant())]);
        return option;
    }

    internal static StartingKind? StartingKindOf(string? name) => name is null ? null : Enum.Parse<StartingKind>(name, ignoreCase: true);

    internal static Option<string[]> Edition() =>
    new("--edition") { Description = "Only this edition of an image: number or name (repeatable)", HelpName = "N|NAME" };

    /// <param name="hasRows">True if the result is a list.</param>
    /// <param name="hasCases">True if the result is tests that passed or failed.</param>
    /// <param name="more">Formats that the command writes by itself.</param>
    internal static Option<string> Format(bool hasRows = false, bool hasCases = false, params string[] more)
    {
        string[] formats = [.. ReportFormats.Names(hasRows, hasCases), .. more];
        var option = new Option<string>("--format") { Description = $"Output: {string.Join(", ", formats)}",
            DefaultValueFactory = _ => formats[0], HelpName = "FORMAT" };
        option.AcceptOnlyFromAmong(formats);
        return option;
    }

    /// <summary>Belongs to commands whose result is kept.</summary>
    internal static readonly Option<string?> ReportFile = new("--to")
    {
        Description = "File to create with any --format but table",
        HelpName = "FILE",
    };

    /// <summary>Belongs to the command whose list is kept as registry text, or as any other format.</summary>
    internal static readonly Option<string?> RegistryFile = new("--to")
    {
        Description = "File to create: registry text of blocks and guards, or any --format but table",
        HelpName = "FILE",
    };

    /// <summary>Belongs to every command.</summary>
    internal static readonly Option<string?> LogFile = new("--log")
    {
        Description = "Log of changes, or none (default: in $XDG_STATE_HOME/moorfield/log)",
        HelpName = "FILE",
        Recursive = true,
    };

    /// <summary>Belongs to every command.</summary>
    internal static readonly Option<string?> LogFormat = LogFormats();

    private static Option<string?> LogFormats()
    {
        var option = new Option<string?>("--log-format")
        {
            Description = $"Format of the log: {string.Join(", ", RunLog.Formats)}", HelpName = "FORMAT", Recursive = true,
        };
        option.AcceptOnlyFromAmong(RunLog.Formats);
        return option;
    }

    internal static Option<string?> VaultPath() => new("--vault")
    {
        Description = "Folder of restore points (default: $MOORFIELD_VAULT, or per user)",
        HelpName = "DIR",
    };

    internal static Option<bool> PlainVault() => new("--plain-vault")
    {
        Description = "Keep what comes from an encrypted disk unencrypted in the vault",
    };

    /// <summary>Says how the vault keeps what is taken from a target, after "in PATH"; empty when that is no encrypted volume.</summary>
    internal static string HowKept(Target target, bool isEncrypted) =>
        isEncrypted ? $", encrypted: it opens with {(target.IsEncrypted ? "the key of the volume or with " : "")}{VaultKeyFile.FullPath}"
        : target.IsEncrypted ? ", not encrypted" : "";

    internal static Option<string?> VaultLimit() => new("--vault-limit")
    {
        Description = "Delete the oldest restore points beyond this size, such as 20GB",
        HelpName = "SIZE",
    };

    /// <summary>An option that takes a day, with or without a time.</summary>
    internal static Option<DateTime?> Day(string name, string description) => new(name)
    {
        Description = description,
        HelpName = "DAY",
        CustomParser = result =>
        {
            // A day that is written in another order could be two days.
            string text = result.Tokens[0].Value;
            if (DateTime.TryParseExact(text, ["yyyy-MM-dd", "yyyy-MM-dd'T'HH:mm", "yyyy-MM-dd'T'HH:mm:ss", "yyyy-MM-dd HH:mm",
                "yyyy-MM-dd HH:mm:ss"], CultureInfo.InvariantCulture, DateTimeStyles.None, out var day))
                return day;
            result.AddError($"'{text}' is not a day: use 2026-11-20, or with a time 2026-11-20T14:30.");
            return null;
        },
    };

    /// <summary>The value of such an option, in this computer's time zone.</summary>
    internal static DateTimeOffset? Time(Invocation call, Option<DateTime?> option) =>
        call.GetValue(option) is { } day ? new DateTimeOffset(DateTime.SpecifyKind(day, DateTimeKind.Local)) : null;

    /// <summary>Opens a target, and tells of a run that was interrupted on it and was put right by that.</summary>
    /// <param name="options">Null for those of the call.</param>
    internal static Target Open(Invocation call, string path, OpenOptions? options = null)
    {
        if (!Path.Exists(path) && call.TargetAmongPackages() is { } other)
        {
            throw new MoorfieldException(ErrorKind.InvalidUsage, $"There is no {path}, but there is {other}. The target comes first.");
        }
        if (Core.Fleets.FleetStore.Is(path))
            throw new MoorfieldException(ErrorKind.InvalidUsage, $"{path} is a fleet store, and this command is for one system. inventory, explain, "
                + "check, compare and hand-over take it.");
        var target = Target.Open(path, call.Progress.Interceptor, options ?? call.OpenOptions);
        if (target.IsDocument && target.Opened is not { Languages: null, Partition: null })
            call.Console.Error($"--language and --partition have no effect on {target.Name}, which is {target.Description}.");
        if (target.Recovered is { } recovered)
            call.Console.Error(recovered.Text);
        return target;
    }

    /// <summary>Opens a target and reads its systems; an interrupted run is pointed out.</summary>
    /// <param name="editions">Words of a person; all when there are none.</param>
    /// <summary>Names of the guards, one for each kind of apps, that are not set although Windows may install such apps at a sign-in.</summary>
    /// <param name="snapshot">Read with the guards of <see cref="KnownGuards.With"/>.</param>
    internal static ImmutableArray<string> OpenGuards(Invocation call, string vaultPath, Target target, SystemSnapshot snapshot, Brief? brief) =>
        [.. ForecastOperation.Of(target, snapshot, null, brief, Points(call.Console, vaultPath))
            .OpenToDeliveries(snapshot, brief?.Guards ?? []).Select(g => g.Name!)];

    /// <param name="guards">Whose values are looked up as well.</param>
    internal static (Target Target, ImmutableArray<SystemSnapshot> Snapshots) Read(
        Invocation call, string path, IReadOnlyCollection<string>? editions = null, IReadOnlyCollection<Guard>? guards = null, string? maker = null)
    {
        var target = Open(call, path, call.OpenOptions with { Maker = maker });
        return (target, Read(call.Console, target, editions, guards));
    }

    internal static ImmutableArray<SystemSnapshot> Read(
        ConsoleOutput console, Target target, IReadOnlyCollection<string>? editions, IReadOnlyCollection<Guard>? guards = null)
    {
        var snapshots = target.Read(target.SelectEditions(editions ?? []), guards ?? []);
        foreach (var snapshot in snapshots)
        {
            string place = snapshot.EditionNumber is { } number ? $"{target.Name}, edition {number}" : target.Name;
            foreach (var note in snapshot.Notes.Where(n => n.Code is "hiveDirty" or "hiveReplayed" or "volumeUnclean" or "protectionSuspended"))
                console.Error($"{place}: {note.Text}");
        }
        if (target.Gaps is [var first, ..] gaps)
        {
            string more = gaps.Length > 1 ? $" {gaps.Length - 1} more gaps: 'moorfield survey DIR' lists them." : "";
            console.Error($"{target.Name}: {first}{more}");
        }
        if (target.DescribeInterruption() is { } interrupted)
            console.Error(interrupted);
        return snapshots;
    }

    /// <summary>Notes whether interrupted runs took effect, where only the target can tell.</summary>
    /// <param name="vaultPath">Where there need be no vault.</param>
    /// <param name="taken">Only this one, which the command has taken; null for all that nobody has.</param>
    internal static void RecoverRuns(string vaultPath, Target? taken = null)
    {
        try
        {
            using var vault = Vault.OpenExisting(vaultPath, new WriteInterceptor());
            if (vault is not null && taken is not null)
                taken.RecoverRuns(vault);
            else if (vault is not null)
                ImageTransaction.RecoverAll(vault, TimeProvider.System);
        }
        catch (MoorfieldException)
        {
            // a vault that can only be read: it stays as it is
        }
    }

    /// <summary>The runs that the vault has on record, oldest first; empty without a vault.</summary>
    /// <param name="vault">As given by <see cref="VaultPath"/>.</param>
    internal static IReadOnlyList<PointSummary> Points(ConsoleOutput console, string? vault)
    {
        string path = Vault.ChoosePath(vault);
        if (!Directory.Exists(path))
            return [];
        using var open = Vault.Open(path, new WriteInterceptor());
        return PointHistory.Read(open, message => console.Notice($"moorfield: {message}"));
    }

    /// <summary>Says which of some names mean packages that a run removed from a target earlier, and returns the other names.</summary>
    internal static string[] WithoutGone(ConsoleOutput console, Target target, ImmutableArray<SystemSnapshot> snapshots, string[] names,
        string? vault)
    {
        string[] unknown = [.. names.Where(n => !PackageSelector.FitsSomething(n, snapshots) && !ProgramSelector.IsProgram(n, snapshots))];
        if (unknown.Length == 0)
            return names;
        var points = Points(console, vault);
        var gone = unknown.Where(n => Gone(points, target, snapshots[0], n) is not null).ToList();
        gone.ForEach(n => console.Notice(Gone(points, target, snapshots[0], n)!));
        return [.. names.Except(gone)];
    }

    /// <summary>Says since when a package is gone that somebody names; null if no run in effect removed it.</summary>
    internal static string? Gone(IReadOnlyList<PointSummary> points, Target target, SystemSnapshot snapshot, string name) =>
        PointHistory.Removal(points, target.Identify(snapshot), name) is not { } removal ? null
            : $"{removal.Package.DisplayName} is gone from {target.Name} since {removal.Run.Point.Created.ToLocalTime():yyyy-MM-dd} (restore point "
                + $"{removal.Run.Point.Number}).";

    /// <summary>The option that says whether packages or desktop programs are meant.</summary>
    internal static Option<string> Kind()
    {
        var option = new Option<string>("--kind") { Description = "Packages (app), desktop programs (desktop), or all; not with block",
            DefaultValueFactory = _ => "app", HelpName = "KIND" };
        option.AcceptOnlyFromAmong("app", "desktop", "all");
        return option;
    }

    /// <summary>The value of that option.</summary>
    /// <exception cref="MoorfieldException">It is given where no conditions are.</exception>
    internal static string KindOf(Invocation call, Option<string> option, PackageConditions conditions) =>
        call.GetRequiredValue(option) is var kind && kind != "app" && conditions.IsEmpty
            ? throw new MoorfieldException(ErrorKind.InvalidUsage, "--kind goes with names and options such as --publisher; '*' means all.") : kind;

    /// <summary>Removals without the packages and desktop programs that --keep names.</summary>
    internal static IEnumerable<RemovalRequest> Keeping(
        IEnumerable<RemovalRequest> requests, string[] keep, ImmutableArray<SystemSnapshot> systems)
    {
        string[] programs = [.. keep.Where(k => ProgramSelector.IsProgram(k, systems))];
        return requests.Zip(PackageSelector.Find([.. keep.Except(programs)], systems), (r, kept) => r.Keeping(kept) with
        {
            Programs = r.Programs.RemoveAll(p => programs.Any(k => NamePattern.Matches(k, p.Name))),
        });
    }

    /// <summary>Sets what a command runs. An error becomes a message and an exit code.</summary>
    /// <param name="checksMachine">True if it cannot do without what every run needs of this machine.</param>
    internal static void Handle(this Command command, Func<Invocation, ExitCode> act, bool checksMachine = true) => command.SetAction(parsed =>
    {
        var surroundings = (Surroundings)parsed.InvocationConfiguration;
        bool json = parsed.CommandResult.Command.Options.OfType<Option<string>>().FirstOrDefault(o => o.Name == "--format") is { } format
            && parsed.GetValue(format) == "json";
        return (int)WrapErrors(surroundings.Console, json, () =>
        {
            if (checksMachine)
                NativeLibraries.Check();
            using var call = new Invocation(parsed, surroundings);
            var result = act(call);
            call.CompleteReport();
            return result;
        });
    });

    /// <summary>Turns every error of a command into a message and an exit code.</summary>
    private static ExitCode WrapErrors(ConsoleOutput console, bool json, Func<ExitCode> act)
    {
        try
        {
            return act();
        }
        catch (MoorfieldException e)
        {
            return Failure(e.Message, e.ExitCode, DisplayText.Of(e.Kind), e.Reason is { } reason ? DisplayText.Of(reason) : null);
        }
        catch (DllNotFoundException e)
        {
            return Failure($"{e.Message} 'moorfield doctor' shows what this machine has.");
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            return Failure(e.Message);
        }
        catch (Exception e)
        {
            return Failure($"This should not have happened ({e.GetType().Name}: {e.Message.Split('\n')[0]}). Please report it. 'moorfield "
                + "inventory TARGET' says whether a run was interrupted.");
        }

        ExitCode Failure(string message, ExitCode code = ExitCode.Failed, string kind = "failed", string? reason = null)
        {
            console.Error(message);
            if (json && !console.HasDocument)
                console.Write(DocumentJson.Bytes(new ErrorJson("moorfield.error/1", (int)code, kind, reason, message)));
            return code;
        }
    }
}
