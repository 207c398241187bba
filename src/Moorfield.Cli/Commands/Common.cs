using System.Collections.Immutable;
using System.CommandLine;
using Moorfield.Core.Model;
using Moorfield.Core.Selection;
using Moorfield.Core.Storage;
using Moorfield.Core.Targets;
using Moorfield.Core.Transactions;
using Moorfield.Core.Vaults;
using Moorfield.Formats.Native;
using Moorfield.Reporting;

namespace Moorfield.Cli.Commands;

/// <summary>Arguments and options that several commands share.</summary>
internal static class Common
{
    /// <param name="saved">Whether a saved inventory will do.</param>
    internal static Argument<string> TargetArgument(bool saved = false) => new("TARGET")
    {
        Description = saved ? "A disk, partition, virtual disk or folder with an offline Windows, a WIM, ESD or ISO file, a survey of a "
            + "running one, or a saved inventory"
            : "A disk, partition, virtual disk or folder with an offline Windows, or a WIM file",
    };

    /// <summary>Belongs to every command.</summary>
    internal static readonly Option<int?> Partition = new("--partition")
    {
        Description = "This partition of a disk, where several hold a Windows",
        HelpName = "N",
        Recursive = true,
    };

    /// <summary>Belongs to every command.</summary>
    internal static readonly Option<string[]> Language = new("--language")
    {
        Description = "Show names in this language where packages have them, such as de-DE (default: that of the system)",
        HelpName = "TAG",
        Recursive = true,
    };

    private static int? _partition;
    private static string[] _languages = [];

    internal static Option<string?> Maker() =>
    new("--maker") { Description = "The machines' maker, which an image does not know: its packages have the origin maker", HelpName = "NAME" };

    internal static Option<string[]> Edition() =>
    new("--edition") { Description = "Only this edition of an image: its number or name (repeatable; default: all)", HelpName = "N|NAME" };

    internal static Option<string> Format(params string[] formats)
    {
        var option = new Option<string>("--format") { Description = $"How to print the result: {string.Join(", ", formats)}",
        DefaultValueFactory = _ => "table", HelpName = "FORMAT" };
        option.AcceptOnlyFromAmong(formats);
        return option;
    }

    internal static Option<string?> VaultPath() => new("--vault")
    {
        Description = "Folder that holds restore points (default: $MOORFIELD_VAULT, else $XDG_STATE_HOME/moorfield/vault)",
        HelpName = "DIR",
    };

    internal static Option<string?> VaultLimit() => new("--vault-limit")
    {
        Description = "Drop the oldest restore points that are not pinned once the vault holds more than this, such as 20GB",
        HelpName = "SIZE",
    };

    /// <summary>Drops the oldest restore points when the vault holds more than a person wants, and says which.</summary>
    /// <param name="limit">As it was given; null for the settings'.</param>
    /// <param name="newest">The restore point just recorded, which stays.</param>
    internal static void KeepWithin(string? limit, string vaultPath, int? newest)
    {
        long? bytes = Limit(limit);
        if (bytes is null || newest is not { } number)
            return;
        using var vault = Vault.OpenExisting(vaultPath, new WriteInterceptor());
        try
        {
            if (vault is null || VaultMaintenance.EnforceLimit(vault, bytes.Value, number,
                message => ConsoleOutput.Notice($"moorfield: {message}")) is not { } deletion)
                return;
            ConsoleOutput.Notice($"moorfield: {vaultPath} holds {TextFormat.Size(vault.StoredBytes)}, more than {TextFormat.Size(bytes.Value)}. The "
                + $"oldest restore points go: {TextFormat.List(deletion.Gone.Select(g => $"{g.Point.Number} ({g.Point.Title})"))}.");
            var (given, deleted, _) = VaultMaintenance.Delete(vault, deletion, TimeProvider.System, _ => true);
            ConsoleOutput.Notice($"moorfield: {TextFormat.Size(given)} given back.");
            foreach (var gone in deleted.Gone)
                RunLog.Write("drop", vaultPath, gone.Point.Number, "done", $"restore point dropped: {gone.Point.Title}");
        }
        catch (MoorfieldException e)
        {
            ConsoleOutput.Error($"The vault stays larger than its limit: {e.Message}");
        }
    }

    /// <exception cref="MoorfieldException">It is no size.</exception>
    internal static long? Limit(string? limit) => limit is null ? Settings.Current.VaultLimit
        : TextFormat.ParseSize(limit) ?? throw new MoorfieldException(ErrorKind.InvalidUsage, $"'{limit}' is not a size such as 500MB or 20GB.");

    /// <summary>Opens whatever a person names for reading: a volume, an image, or an inventory that was saved.</summary>
    internal static Target Open(string path) => Open(path, new WriteInterceptor(), null);

    /// <summary>Opens a target, and tells of a run that was cut off on it and was put right by that.</summary>
    private static Target Open(string path, WriteInterceptor interceptor, MarkedRun? recoverBy)
    {
        Target target = SurveyTarget.TryOpen(path) is { } survey ? survey
            : SavedInventory.TryOpen(path) is { } saved ? saved : Target.Open(path, interceptor, _partition, recoverBy);
        if (_languages.Length > 0)
            target.Languages = [.. _languages];
        if (target.IsDocument && (_languages.Length > 0 || _partition is not null))
            ConsoleOutput.Notice($"moorfield: {target.Name} is {target.Description}: --language and --partition change nothing about it.");
        if (target.Recovered is { } recovered)
            ConsoleOutput.Notice($"moorfield: {recovered.Text}");
        return target;
    }

    /// <summary>Opens a target and reads its systems; an interrupted run is pointed out.</summary>
    /// <param name="editions">Words of a person; all when there are none.</param>
    /// <param name="guards">Whose values are looked up as well.</param>
    internal static (Target Target, ImmutableArray<SystemSnapshot> Snapshots) Read(
        string path, IReadOnlyCollection<string>? editions = null, IReadOnlyCollection<Guard>? guards = null, string? maker = null)
    {
        var target = Open(path);
        target.Maker = maker;
        return (target, Read(target, editions, guards));
    }

    /// <summary>Opens a target for a run, or one that can only be read, for its preview.</summary>
    /// <exception cref="MoorfieldException">Another run has it, or a run was interrupted there.</exception>
    internal static Target OpenForPreview(string path, WriteInterceptor interceptor)
    {
        var target = Open(path, interceptor, null);
        if (target.Trees is not null)
            target.AcquireForChange();
        return target;
    }

    /// <summary>Opens a target for a run, which has it alone then.</summary>
    /// <param name="mayFollowInterruption">Whether it puts right what another run left that was cut off.</param>
    /// <param name="recoverBy">As for <see cref="DiskTarget.Open"/>.</param>
    /// <exception cref="MoorfieldException">Another run has it, or a run was interrupted there.</exception>
    internal static Target OpenForChange(string path, WriteInterceptor interceptor, bool mayFollowInterruption = false, MarkedRun? recoverBy = null)
    {
        var target = Open(path, interceptor, recoverBy);
        target.AcquireForChange(mayFollowInterruption);
        return target;
    }

    internal static ImmutableArray<SystemSnapshot> Read(Target target, IReadOnlyCollection<string>? editions,
    IReadOnlyCollection<Guard>? guards = null)
    {
        var snapshots = target.Read(target.SelectEditions(editions ?? []), guards ?? []);
        foreach (var snapshot in snapshots)
        {
            string place = snapshot.EditionNumber is { } number ? $"{target.Name}, edition {number}" : target.Name;
            foreach (var note in snapshot.Notes.Where(n => n.Code is "hiveDirty" or "hiveReplayed" or "volumeUnclean"))
                ConsoleOutput.Notice($"moorfield: {place}: {note.Text}");
        }
        if (target.Gaps is [var first, ..] gaps)
        {
            string more = gaps.Length > 1 ? $" {gaps.Length - 1} more of what it could not see: 'moorfield survey DIR' lists it." : "";
            ConsoleOutput.Notice($"moorfield: {target.Name}: {first}{more}");
        }
        if (target.DescribeInterruption() is { } interrupted)
            ConsoleOutput.Notice($"moorfield: {interrupted}");
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

    /// <summary>What the vault knows, oldest first; nothing where there is none.</summary>
    /// <param name="vault">As given by <see cref="VaultPath"/>.</param>
    internal static IReadOnlyList<PointSummary> Points(string? vault)
    {
        string path = Vault.ChoosePath(vault);
        if (!Directory.Exists(path))
            return [];
        using var open = Vault.Open(path, new WriteInterceptor());
        return PointHistory.Read(open, message => ConsoleOutput.Notice($"moorfield: {message}"));
    }

    /// <summary>Prints a result in the form that was asked for.</summary>
    /// <param name="format">As <see cref="Format"/> gives it.</param>
    internal static void Print(string? format, Action json, Action table, Action? csv = null)
    {
        switch (format)
        {
            case "json":
                json();
                break;
            case "csv":
                csv!();
                break;
            default:
                table();
                break;
        }
    }

    private static string CanonicalLanguage(string language) => language.Length < 85 && language.Split('-') is [{ Length: 2 or 3 } first, .. var rest]
        && first.All(char.IsAsciiLetter) && rest.All(p => p.Length is > 0 and < 9 && p.All(char.IsAsciiLetterOrDigit)) ? language
            : throw new MoorfieldException(ErrorKind.InvalidUsage, $"'{language}' is no language tag, such as de-DE.");

    /// <summary>What the command does, with trouble turned into a message and an exit code.</summary>
    internal static void Handle(this Command command, Func<ParseResult, int> act) =>
        command.SetAction(parsed => Program.WrapErrors(() =>
        {
            NativeLibraries.Check();
            RunLog.Append(parsed);
            _partition = parsed.GetValue(Partition);
            _languages = [.. (parsed.GetValue(Language) ?? []).Select(CanonicalLanguage)];
            return act(parsed);
        }));
}
