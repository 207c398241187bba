using System.CommandLine;
using System.CommandLine.Parsing;
using System.Globalization;
using Moorfield.Cli.Commands;
using Moorfield.Core.Model;
using Moorfield.Reporting;

namespace Moorfield.Cli;

internal static class Program
{
    internal const int Done = 0;
    internal const int Failed = 1;
    internal const int CalledWrongly = 2;
    internal const int DoneInPart = 3;
    internal const int Differs = 4;
    internal const int Stopped = 130;

    private static int Main(string[] arguments)
    {
        try
        {
            return Run(arguments);
        }
        catch (IOException)
        {
            return Failed; // nothing more can be said: standard output and standard error are full, or closed
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
            BlockCommand.CreateBlock(),
            BlockCommand.CreateUnblock(),
            BlocksCommand.Create(),
            GuardCommand.Create(),
            GuardCommand.CreateList(),
            ForecastCommand.Create(),
            SurveyCommand.Create(),
            HandOverCommand.Create(),
            RestorePointCommand.Create(),
            RestorePointUpkeepCommand.CreateVault(),
            UndoCommand.Create(),
            BringBackCommand.Create(),
            ImageCommand.Create(),
            MediaCommand.Create(),
            DemoCommand.Create(),
            Common.Partition,
            Common.Language,
            RunLog.FileOption,
            RunLog.FormatOption,
        };
        if (arguments.FirstOrDefault(a => a.Contains('\uFFFD', StringComparison.Ordinal) && !Path.Exists(a)) is { } garbled)
        {
            ConsoleOutput.Error($"'{garbled}' is not valid UTF-8, so it cannot be told which file is meant. Rename it, or name it by a link.");
            return CalledWrongly;
        }
        if (DiskGuard.Run(arguments) is { } result)
            return result;
        Interruption.Listen();
        var parsed = root.Parse(arguments);
        if (OptionSuggestion.Find(parsed) is { } unknown)
        {
            ConsoleOutput.Error(unknown);
            return CalledWrongly;
        }
        if (parsed.Errors.Count > 0)
        {
            foreach (var error in parsed.Errors)
                ConsoleOutput.Error(Said(error));
            ConsoleOutput.Error($"'moorfield {string.Concat(Names(parsed.CommandResult.Command, root).Reverse())}--help' shows how it is called.");
            return CalledWrongly;
        }
        return parsed.Invoke(new InvocationConfiguration { EnableDefaultExceptionHandler = false, Error = Console.Error, Output = Console.Out });
    }

    /// <summary>An error as people say it: the library names types.</summary>
    private static string Said(ParseError error)
    {
        var (type, name) = error.SymbolResult switch
        {
            OptionResult { Option: var option } => (option.ValueType, option.Name),
            ArgumentResult { Argument: var argument } => (argument.ValueType, argument.Name),
            _ => (null, null),
        };
        bool isNumber = type == typeof(int) || type == typeof(int?) || type == typeof(int[]);
        string? text = !isNumber ? null
            : error.SymbolResult!.Tokens.Select(t => t.Value).FirstOrDefault(t => !int.TryParse(t, CultureInfo.InvariantCulture, out _));
        return text is null ? error.Message : $"'{text}' is no whole number for {name}.";
    }

    private static IEnumerable<string> Names(Command command, RootCommand root)
    {
        for (Symbol? c = command; c is not null && c != root; c = c.Parents.FirstOrDefault())
            yield return c.Name + " ";
    }

    /// <summary>The one place where trouble becomes a message and an exit code.</summary>
    internal static int WrapErrors(Func<int> act)
    {
        try
        {
            return act();
        }
        catch (MoorfieldException e)
        {
            ConsoleOutput.Error(e.Message);
            return (int)e.Kind;
        }
        catch (DllNotFoundException e)
        {
            ConsoleOutput.Error(e.Message);
            return Failed;
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            ConsoleOutput.Error(e.Message);
            return Failed;
        }
        catch (Exception e)
        {
            ConsoleOutput.Error($"This should not have happened ({e.GetType().Name}: {e.Message.Split('\n')[0]}). Please report it. 'moorfield "
                + "inventory TARGET' says whether a run was interrupted.");
            return Failed;
        }
    }
}
