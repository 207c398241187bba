using System.Collections.Immutable;
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
            Makes the demo data, in Windows' real on-disk formats: counter-07, an installed system of the made-up Saltmarsh Ferries, and
            counter-install.wim, the image with three editions that its PCs are installed from; and briefs for them.

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
        string image = Path.Combine(folder, "counter-install.wim");
        if (World.BriefNames.Select(n => Path.Combine(folder, n)).Concat([volume, image]).FirstOrDefault(Path.Exists) is { } there)
            throw new MoorfieldException(Trouble.Misused, $"{there} is there already. Delete it, or name another folder.");
        ImmutableArray<string> briefs;
        try
        {
            var world = World.Load();
            VolumeBuilder.Build(world, volume);
            ImageBuilder.Build(world, world.Editions, image);
            briefs = World.WriteBriefs(folder);
        }
        catch (DllNotFoundException e)
        {
            throw new MoorfieldException(Trouble.Failed, e.Message, e);
        }
        Say.Line($"{volume} is a made-up Windows volume. 'moorfield inventory {volume}' takes stock of it.");
        Say.Line($"{image} is an install image of three editions. 'moorfield image list {image}' shows them.");
        Say.Line($"{briefs[0]} is a brief. 'moorfield brief show {briefs[0]} --on {volume}' shows what it means there.");
        return Program.Done;
    }
}
