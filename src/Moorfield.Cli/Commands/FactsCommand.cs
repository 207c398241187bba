using System.Text;

namespace Moorfield.Cli.Commands;

internal static class FactsCommand
{
    private static readonly Argument<string> TargetPath = Common.TargetArgument();
    private static readonly Option<string?> Edition = new("--edition") { Description = "The edition of an image: its number or name",
        HelpName = "N|NAME" };
    private static readonly Option<string> To = new("--to") { Description = "File to create", HelpName = "FILE",
        Required = true };

    private static readonly Option<string> Format = Common.Format();

    internal static Command Create()
    {
        var command = new Command("facts", """
            Writes how a system's hives and folders are laid out where Windows keeps what it knows of packages, so that Moorfield can learn
            releases that it has not seen. It holds names only where Windows itself gives them, every other as its length and the kinds of its
            characters, and types and sizes in place of contents. Nothing is sent: read the file, and send it if you like.

            Example:
              moorfield facts /mnt/counter-07 --to counter-07.facts
            """)
        { TargetPath, Edition, To, Format };
        command.Handle(Run);
        return command;
    }

    private static ExitCode Run(Invocation call)
    {
        using var target = Common.Open(call, call.GetRequiredValue(TargetPath));
        var lines = LayoutFacts.Of(target, call.GetValue(Edition) is { } edition ? [edition] : []);
        string file = call.GetRequiredValue(To);
        byte[] text = Encoding.UTF8.GetBytes(string.Join('\n', lines) + "\n");
        NewFile.Write(file, text);
        call.WriteDone(Format, DocumentBuilder.Done("facts", target.Given, target.FullPath, [file], bytes: text.Length),
            $"{file} has {TextTable.Count(lines.Length, "line")} about {target.Name}. Read it before you send it: "
            + "docs/send-us-facts.md says what it may hold.");
        return ExitCode.Done;
    }
}
