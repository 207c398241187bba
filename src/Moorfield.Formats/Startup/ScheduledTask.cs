using System.Xml;

namespace Moorfield.Formats.Startup;

/// <summary>A scheduled task as its file describes it. Source: the published schema of the task scheduler [doc].</summary>
/// <param name="Principal">SID or name of the account that it runs as, or of a group; empty when it names none.</param>
/// <param name="StartsWithWindows">True if it has a trigger for sign-ins, or for the start of Windows.</param>
/// <param name="IsEnabled">False if it is switched off.</param>
/// <param name="Commands">The programs that it starts, with their arguments, in order.</param>
public sealed record ScheduledTask(string Principal, bool StartsWithWindows, bool IsEnabled, ImmutableArray<string> Commands)
{
    /// <summary>Longest file that is read, in bytes.</summary>
    public const int MaxBytes = 1 << 20;

    private const int MaxDepth = 32;

    /// <summary>Reads a task.</summary>
    /// <exception cref="InvalidDataException">It is not a task, or not well-formed XML.</exception>
    public static ScheduledTask Read(byte[] content)
    {
        var settings = new XmlReaderSettings { DtdProcessing = DtdProcessing.Prohibit, XmlResolver = null, MaxCharactersInDocument = MaxBytes };
        try
        {
            using var reader = XmlReader.Create(new MemoryStream(content, writable: false), settings);
            return Read(reader);
        }
        catch (XmlException e)
        {
            throw new InvalidDataException($"it is not well-formed XML: {e.Message}", e);
        }
    }

    private static ScheduledTask Read(XmlReader reader)
    {
        var open = new List<string>();
        string principal = "", command = "", arguments = "";
        bool startsWithWindows = false, isEnabled = true;
        var commands = ImmutableArray.CreateBuilder<string>();
        while (reader.Read())
        {
            switch (reader.NodeType)
            {
                case XmlNodeType.Element when reader.Depth >= MaxDepth:
                    throw new InvalidDataException("it is nested too deeply");
                case XmlNodeType.Element:
                    if (reader.Depth == 0 && reader.LocalName != "Task")
                        throw new InvalidDataException("it is not a task");
                    LeaveTo(reader.Depth);
                    open.Add(reader.LocalName);
                    startsWithWindows |= Place() is "Task/Triggers/LogonTrigger" or "Task/Triggers/BootTrigger";
                    if (Place() == "Task/Actions/Exec")
                        command = arguments = "";
                    break;
                case XmlNodeType.Text or XmlNodeType.CDATA:
                    LeaveTo(reader.Depth);
                    string text = reader.Value.Trim();
                    switch (Place())
                    {
                        case "Task/Principals/Principal/UserId" or "Task/Principals/Principal/GroupId" when principal.Length == 0:
                            principal = text;
                            break;
                        case "Task/Settings/Enabled":
                            isEnabled = text is not ("false" or "0");
                            break;
                        case "Task/Actions/Exec/Command":
                            command = text;
                            break;
                        case "Task/Actions/Exec/Arguments":
                            arguments = text;
                            break;
                    }
                    break;
                case XmlNodeType.EndElement when reader.LocalName == "Exec" && reader.Depth == 2 && command.Length > 0:
                    string program = command.Trim('"');
                    commands.Add((program.Contains(' ', StringComparison.Ordinal) ? $"\"{program}\"" : program)
                        + (arguments.Length > 0 ? $" {arguments}" : ""));
                    break;
            }
        }
        return new ScheduledTask(principal, startsWithWindows, isEnabled, commands.ToImmutable());

        void LeaveTo(int depth) => open.RemoveRange(depth, open.Count - depth);

        string Place() => string.Join('/', open);
    }
}
