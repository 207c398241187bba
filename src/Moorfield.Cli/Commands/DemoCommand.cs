using System.CommandLine;
using Moorfield.Cli.Rendering;
using Moorfield.Core;
using Moorfield.StandIn;

namespace Moorfield.Cli.Commands;

internal static class DemoCommand
{
    private static readonly Argument<string> Folder = new("DIR") { Description = "Folder to make (default: saltmarsh)", DefaultValueFactory = _ => "saltmarsh" };

    internal static Command Create()
    {
        var command = new Command("demo", """
            Makes the demo data: counter-07, an installed system of the made-up Saltmarsh Ferries, in Windows' real on-disk formats.

            Example:
              moorfield demo /tmp/saltmarsh
            """)
        { Folder };
        command.Handle(Run);
        return command;
    }

    private static int Run(ParseResult parsed)
    {
        string folder = Path.GetFullPath(parsed.GetRequiredValue(Folder));
        string volume = Path.Combine(folder, "counter-07");
        if (Path.Exists(volume))
            throw new MoorfieldException(Trouble.Misused, $"{volume} is there already. Delete it, or name another folder.");
        try
        {
            VolumeBuilder.Build(World.Load(), volume);
        }
        catch (DllNotFoundException e)
        {
            throw new MoorfieldException(Trouble.Failed, e.Message, e);
        }
        Say.Line($"{volume} is a made-up Windows volume. 'moorfield inventory {volume}' takes stock of it.");
        return Program.Done;
    }
}
