using System.CommandLine.Help;
using System.CommandLine.Invocation;

namespace Moorfield.Cli.Commands;

/// <summary>The pages of help: of the program, of each command, and of what several commands have.</summary>
internal static class HelpPages
{
    private const int MaxSummary = 80;

    /// <summary>Names of pages that no command has.</summary>
    internal static readonly string[] Topics = ["packages", "targets", "options", "words", "briefs", "recipes"];

    private const string ExampleMark = "\n\nExample:\n";

    /// <summary>The commands in the order of the work, each with what it does in a few words.</summary>
    private static readonly (string Group, (string Command, string Does)[] Commands)[] Groups =
    [
        ("Look", [("inventory", "lists packages, and what removing them means"), ("explain", "shows one package in full"),
            ("compare", "shows what differs between two targets"), ("check", "compares targets with a brief"),
            ("forecast", "shows what an update or a sign-in would bring")]),
        ("Change", [("pick", "lets you choose packages on a full screen"), ("remove", "removes packages"),
            ("bring-back", "installs removed packages again"), ("undo", "puts back what a run changed")]),
        ("Keep away", [("block", "keeps families from being provisioned again"), ("guard", "sets registry values that keep apps away")]),
        ("Write down", [("brief", "writes briefs, and shows what they mean"), ("restore-point", "lists, verifies and tidies restore points")]),
        ("Images and media", [("image", "works on install images as files"), ("media", "builds install media")]),
        ("Running machines", [("survey", "writes a script that records what a PC has"), ("hand-over", "writes scripts that change running PCs"),
            ("fleet", "keeps what surveys say of many PCs")]),
        ("Many hosts", [("batch", "shares work on disks and images among hosts")]),
        ("Around it", [("doctor", "finds what this machine lacks"), ("facts", "writes how a Windows stores its packages"),
            ("help", "explains a command"),
            ("demo", "creates a made-up Windows to try things on")]),
    ];

    /// <summary>Under which heading the help of a command has an option; options that are not listed here come under the last one.</summary>
    private static readonly (string Heading, string[] Options)[] Headings =
    [
        ("Which packages", ["--brief", "--brief-sha256", "--lenient", "--leftovers", "--coming", "--from", "--from-edition", "--maker",
            "--all", "--everything", "--before", "--start", "--package"]),
        ("For whom", ["--for", "--edition", "--before-edition", "--after-edition"]),
        ("What goes", ["--leave-data", "--allow-return", "--sweep", "--lift"]),
        ("Safety", ["--preview", "--yes", "--accept-costs", "--note", "--report", "--vault", "--vault-limit", "--without-restore-point",
            "--copy-files", "--replay-logs", "--overwrite", "--restore-point"]),
        ("Output", ["--format", "--to", "--sort", "--reverse", "--columns", "--sizes", "--reg", "--places"]),
    ];

    private const string MakerName = "--maker";
    private const string Others = "Other options", Only = "Options";

    /// <summary>Makes --help print these pages for every command, and adds the command that prints them as well.</summary>
    internal static void AddTo(RootCommand root)
    {
        root.Options.OfType<HelpOption>().Single().Action = new PageAction(root);
        root.Options.OfType<VersionOption>().Single().Action = new VersionAction();
        var words = new Argument<string[]>("COMMAND")
        {
            Description = "A command, or packages (how to choose them), targets (several at once), options (of every command), briefs, "
                + "recipes, words",
            Arity = ArgumentArity.ZeroOrMore,
        };
        var help = new Command("help", """
            Explains a command, like its --help, or options that several commands share.

            Example:
              moorfield help remove
              moorfield help restore-point list
              moorfield help packages
            """)
        { words };
        help.Handle(call =>
        {
            Find(root, call.GetValue(words) ?? []).Print(call.Console);
            return ExitCode.Done;
        });
        root.Add(help);
    }

    private sealed class PageAction(RootCommand root) : SynchronousCommandLineAction
    {
        public override bool ClearsParseErrors => true;

        public override int Invoke(ParseResult parseResult)
        {
            var command = parseResult.CommandResult.Command;
            (command == root ? Program() : Page(command)).Print(((Surroundings)parseResult.InvocationConfiguration).Console);
            return 0;
        }
    }

    /// <exception cref="MoorfieldException">There is no such command.</exception>
    private static HelpPage Find(RootCommand root, string[] words)
    {
        switch (words)
        {
            case []:
                return Program();
            case ["packages"]:
                return Packages();
            case ["targets"]:
                return Targets();
            case ["options"]:
                return Options(root);
            case ["words"]:
                return HelpTopics.Words();
            case ["briefs"]:
                return HelpTopics.Briefs();
            case ["recipes"]:
                return HelpTopics.Recipes();
        }
        Command command = root;
        foreach (string word in words)
        {
            command = command.Subcommands.FirstOrDefault(c => c.Name == word) ?? throw new MoorfieldException(ErrorKind.InvalidUsage,
                $"There is no command '{string.Join(' ', words)}'. The nearest is "
                + $"'{command.Subcommands.MinBy(c => NamePattern.Distance(word, c.Name))?.Name ?? command.Name}'; 'moorfield help' lists all.");
        }
        return Page(command);
    }

    /// <summary>The commands with what they do in a few words, and where to read on.</summary>
    internal static HelpPage Program()
    {
        var rows = new List<HelpRow>();
        foreach (var (group, commands) in Groups)
        {
            foreach (var (at, (command, does)) in commands.Index())
                rows.Add(new HelpRow(command, does, at == 0 ? group : ""));
        }
        return new HelpPage("moorfield", "takes stock of the app packages built into Windows, and removes them")
            .Say("Takes stock of the app packages built into Windows, removes unwanted ones, keeps them away, and can undo it all.")
            .List("", rows)
            .Say("'moorfield help COMMAND' explains a command, 'moorfield help packages' how packages are named and chosen, 'moorfield help "
                + "targets' how a command is run on several targets, 'moorfield help options' the options of every command, 'moorfield help "
                + "briefs' what a brief says, and 'moorfield help words' what words mean. 'moorfield demo DIR' makes something to try them on.");
    }

    /// <summary>A command with its arguments, options and examples.</summary>
    internal static HelpPage Page(Command command)
    {
        string[] text = (command.Description ?? "").ReplaceLineEndings("\n").Split(ExampleMark);
        string path = PathOf(command);
        var page = new HelpPage($"moorfield {path}", Summary(command))
        {
            Usage = $"moorfield {path}{string.Concat(command.Arguments.Select(a => " " + Usage(a)))}"
                + $"{(command.Subcommands.Count > 0 ? " COMMAND" : "")}{(command.Options.Count > 0 ? " [OPTION...]" : "")}",
        };
        page.Say(text[0].Replace('\n', ' '));
        if (text.Length > 1)
            page.Show("Examples", [.. text[1].Split('\n').Select(l => l.Trim()).Where(l => l.Length > 0)]);
        if (command.Subcommands.Count > 0)
            page.List("Commands", command.Subcommands.Select(c => new HelpRow(c.Name, FirstSentence(c))));
        if (command.Arguments.Count > 0)
            page.List("", command.Arguments.Select(a => new HelpRow(a.Name, a.Description ?? "")));
        bool chooses = command.Options.Any(o => o.Name == "--find");
        var selection = Selection().Options.Select(o => o.Name).Where(n => n != "--brief" && (chooses || n != MakerName))
            .Concat(SeveralTargets.Names).Append(Common.PlainVault().Name).ToHashSet(StringComparer.Ordinal);
        var own = command.Options.Where(o => !o.Hidden && !o.Recursive && !selection.Contains(o.Name)).ToList();
        foreach (var (heading, options) in Headings.Append((Others, own.Select(o => o.Name).Except(Headings.SelectMany(h => h.Options)).ToArray())))
        {
            var listed = own.Where(o => options.Contains(o.Name)).ToList();
            bool hasFilters = chooses && heading == Headings[0].Heading;
            if (listed.Count == 0 && !hasFilters)
                continue;
            page.List(listed.Count == own.Count && !chooses ? Only : heading, listed.Select(Row),
                hasFilters ? "and filters, such as --origin: 'moorfield help packages' lists them" : null);
        }
        return page.Say(command.Subcommands.Count > 0 ? $"'moorfield help {path} COMMAND' explains one of them."
            : command.Options.Any(o => SeveralTargets.Names.Contains(o.Name))
            ? "Several targets at once: 'moorfield help targets'. 'moorfield help options' lists the options of every command."
            : "'moorfield help options' lists the options of every command.");
    }

    /// <summary>How a command is run on several targets.</summary>
    internal static HelpPage Targets()
    {
        var command = new Command("targets");
        SeveralTargets.AddTo(command);
        return new HelpPage("Targets", "how a command is run on several targets")
            .Say($"{TextFormat.List(SeveralTargets.Commands.Select(c => string.Join(' ', c)), SeveralTargets.Commands.Length)} take several "
                + "targets: one after the other (paths with a slash; with --brief any paths), or in a list, a path a line. Each has a process "
                + "for itself. One that fails stops no other; there is a line for each as it ends, and exit code 3 when not all was done. Ctrl-C "
                + "begins no more. Nobody is asked: --preview or --yes is needed.")
            .Show("Examples", "moorfield remove /mnt/counter-07 /mnt/counter-08 --brief counters.brief.yaml --yes",
                "moorfield undo --targets counters.list --yes --jobs 4")
            .List(Only, command.Options.Select(Row))
            .Say("A folder of surveys is one target for inventory, explain, check, compare and hand-over: docs/fleet.md.");
    }

    /// <summary>How packages are named and chosen.</summary>
    internal static HelpPage Packages() => new HelpPage("Packages", "how packages are named and chosen")
        .Say("A package is named by its display name (Weather), its name, its family name or its full name, in any case; * stands for any "
            + "text. Where a command takes several packages, these options choose among them. Of several values of one option, one must match; "
            + "different options must all match. Rules of a brief can say the same.")
        .Say("A package is free (removing it costs nothing), costly (it costs something), protected (part of Windows that people see: "
            + "removed only if named exactly), or essential (Windows or another package needs it: never removed). A removal leaves packages "
            + "alone that were installed later, unless a name, --find, --publisher or --origin added means them.")
        .List("Filters", Selection().Options.Select(Row))
        .Say("--for says for whom: account names, accounts (all there are), newcomers (accounts that do not exist yet), or everyone.");

    /// <summary>The options that every command has, or every one that records a restore point.</summary>
    internal static HelpPage Options(RootCommand root) => new HelpPage("Options", "options of every command")
        .List("Options of every command", root.Options.Where(o => !o.Hidden).Select(Row))
        .List("Of every command that records a restore point", [Row(Common.PlainVault())]);

    /// <summary>A command that has only the options by which packages are chosen.</summary>
    private static Command Selection()
    {
        var command = new Command("selection");
        _ = new FilterOptions(command, forChange: true);
        command.Add(Common.Kind());
        command.Add(Common.Maker());
        _ = new BriefOptions(command, lenient: true);
        return command;
    }

    /// <summary>The words that call a command, without the program's name.</summary>
    internal static string PathOf(Symbol command) => command is RootCommand ? ""
        : command.Parents.FirstOrDefault() is { } above ? $"{PathOf(above)} {command.Name}".TrimStart() : command.Name;

    private static string Usage(Argument argument) => argument.HelpName ??
        (argument.Arity.MinimumNumberOfValues == 0, argument.Arity.MaximumNumberOfValues > 1) switch
        {
            (true, true) => $"[{argument.Name}...]",
            (true, false) => $"[{argument.Name}]",
            (false, true) => $"{argument.Name}...",
            _ => argument.Name,
        };

    private static string FirstSentence(Command command)
    {
        string text = (command.Description ?? "").ReplaceLineEndings(" ");
        return text.IndexOf(". ", StringComparison.Ordinal) is > 0 and var end ? text[..end] : text.TrimEnd('.');
    }

    /// <summary>The purpose of a command, short enough for a line.</summary>
    private static string Summary(Command command)
    {
        if (command.Parents.FirstOrDefault() is RootCommand)
            return Groups.SelectMany(g => g.Commands).First(c => c.Command == command.Name).Does;
        string text = FirstSentence(command);
        if (text.Length > MaxSummary && text.IndexOfAny([',', ';', ':', '(']) is > 0 and var end)
            text = text[..end].TrimEnd();
        return char.ToLowerInvariant(text[0]) + text[1..];
    }

    private static HelpRow Row(Option option) => new(
        $"{string.Concat(option.Aliases.Where(a => a.Length == 2 && a[0] == '-').Select(a => a + ", "))}{option.Name}"
            + $"{(option.HelpName is { Length: > 0 } value ? $" {value}" : "")}", $"{option.Description}{(option.Required ? " (needed)" : "")}");
}
