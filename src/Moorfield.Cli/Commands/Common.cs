using System.CommandLine;
using Moorfield.Cli.Rendering;
using Moorfield.Core;
using Moorfield.Core.Systems;
using Moorfield.Core.Volumes;

namespace Moorfield.Cli.Commands;

/// <summary>Arguments and options that several commands share.</summary>
internal static class Common
{
    internal static Argument<string> Target() => new("TARGET") { Description = "Root folder of an offline Windows volume" };

    internal static Option<string> Format(params string[] formats)
    {
        var option = new Option<string>("--format") { Description = $"How to print the result: {string.Join(", ", formats)}", DefaultValueFactory = _ => "table", HelpName = "FORMAT" };
        option.AcceptOnlyFromAmong(formats);
        return option;
    }

    internal static Option<string?> VaultPath() => new("--vault")
    {
        Description = "Folder that holds restore points (default: $MOORFIELD_VAULT, else $XDG_STATE_HOME/moorfield/vault)",
        HelpName = "DIR",
    };

    internal static WindowsVolume Open(string target, WriteSeam? seam = null) => WindowsVolume.Open(target, seam ?? new WriteSeam());

    /// <summary>Opens a volume and reads its system; an interrupted run is pointed out.</summary>
    internal static (WindowsVolume Volume, SystemSnapshot Snapshot) Read(string target, WriteSeam? seam = null)
    {
        var volume = Open(target, seam);
        var snapshot = SystemReader.Read(volume);
        foreach (var note in snapshot.Notes.Where(n => n.Code == "hiveDirty"))
            Say.Aside($"moorfield: {volume.Name}: {note.Text}");
        if (Core.RestorePoints.InterruptedRun.Find(volume) is { } interrupted)
            Say.Aside($"moorfield: {interrupted.Describe(volume)}");
        return (volume, snapshot);
    }

    /// <summary>Takes the volume for a run.</summary>
    /// <exception cref="MoorfieldException">Another run has it.</exception>
    internal static void Lock(WindowsVolume volume)
    {
        if (!volume.TryLock())
            throw new MoorfieldException(Trouble.Failed, $"{volume.Name} is being changed by another run of moorfield. Wait for it to end.");
    }

    /// <summary>What the command does, with trouble turned into a message and an exit code.</summary>
    internal static void Handle(this Command command, Func<ParseResult, int> act) => command.SetAction(parsed => Program.Guarded(() => act(parsed)));
}
