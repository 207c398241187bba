using Moorfield.Cli.Commands;
using Moorfield.Cli.Host;

namespace Moorfield.Cli;

internal static class Program
{
    // A name that begins with @ is a name, and no file with more arguments.
    private static readonly ParserConfiguration AsTyped = new() { ResponseFileTokenReplacer = null };

    private static int Main(string[] arguments)
    {
        try
        {
            return Run(arguments);
        }
        catch (IOException)
        {
            return (int)ExitCode.Failed; // nothing more can be said: standard output and standard error are full, or closed
        }
    }

    private static int Run(string[] arguments)
    {
        var root = new RootCommand("Takes stock of the app packages built into an offline Windows or an install image, removes unwanted ones, "
            + "blocks their return, and can undo it all.")
        {
            InventoryCommand.Create(),
            ExplainCommand.Create(),
            RemoveCommand.Create(),
            PickCommand.Create(),
            BriefCommand.Create(),
            CheckCommand.Create(),
            CompareCommand.Create(),
            BlockCommand.Create(),
            GuardCommand.Create(),
            ForecastCommand.Create(),
            SurveyCommand.Create(),
            HandOverCommand.Create(),
            FleetCommand.Create(),
            BatchCommand.Create(),
            RestorePointCommand.Create(),
            UndoCommand.Create(),
            BringBackCommand.Create(),
            ImageCommand.Create(),
            MediaCommand.Create(),
            FactsCommand.Create(),
            DoctorCommand.Create(),
            DemoCommand.Create(),
            Common.Partition,
            Common.BitLockerKey,
            Common.BackingIn,
            Common.Language,
            Common.LogFile,
            Common.LogFormat,
        };
        HelpPages.AddTo(root);
        ManualPages.AddTo(root);
        if (Completion.IsAskedFor(arguments))
        {
            Completion.Answer(root, arguments);
            return (int)ExitCode.Done;
        }
        var console = new ConsoleOutput();
        if (arguments.FirstOrDefault(a => a.Contains('\uFFFD', StringComparison.Ordinal) && !Path.Exists(a)) is { } garbled)
        {
            console.Error($"'{garbled}' is not valid UTF-8, so it is not known which file is meant. Rename it, or name it by a link.");
            return (int)ExitCode.InvalidUsage;
        }
        if (!OwnProcess.Join())
            return (int)ExitCode.Stopped;
        if (!OwnProcess.IsOneOfSeveral && RunSeveral(root, console, arguments) is { } several)
            return (int)several;
        if (DiskGuard.Run(console, arguments, Common.BitLockerKey.Name, out var watch) is { } result)
            return (int)result;
        using var watched = watch;
        using var interruption = new Interruption(console);
        var parsed = root.Parse(arguments, AsTyped);
        if (Mistakes(console, parsed) is { } wrong)
            return (int)wrong;
        return parsed.Invoke(new Surroundings(console, interruption) { EnableDefaultExceptionHandler = false, Error = Console.Error,
            Output = Console.Out });
    }

    /// <summary>Does a call on several targets; null for any other call.</summary>
    private static ExitCode? RunSeveral(RootCommand root, ConsoleOutput console, string[] arguments)
    {
        try
        {
            if (SeveralTargets.Of(arguments) is not { } several)
                return null;
            var parsed = root.Parse(several.First, AsTyped);
            return Mistakes(console, parsed) ?? several.Run(console, parsed);
        }
        catch (MoorfieldException e)
        {
            console.Error(e.Message);
            return e.ExitCode;
        }
    }

    /// <summary>Says what is wrong with a call; null when nothing is.</summary>
    private static ExitCode? Mistakes(ConsoleOutput console, ParseResult parsed)
    {
        if (CallMistakes.Find(parsed) is { } unknown)
        {
            console.Error(unknown);
            return ExitCode.InvalidUsage;
        }
        if (parsed.Errors.Count > 0)
        {
            foreach (var error in parsed.Errors)
                console.Error(CallMistakes.Said(error));
            console.Error($"'moorfield help {HelpPages.PathOf(parsed.CommandResult.Command)}".TrimEnd() + "' shows how it is called.");
            return ExitCode.InvalidUsage;
        }
        return null;
    }
}
