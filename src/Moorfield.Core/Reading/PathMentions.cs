using Moorfield.Core.Layout;

namespace Moorfield.Core.Reading;

/// <summary>A text of the registry that leads into a folder.</summary>
/// <param name="Key">From the hive's root down.</param>
/// <param name="Value">Empty for the default value.</param>
internal sealed record PathMention(string Key, string Value, WindowsPath Folder);

/// <summary>Finds what leads into folders: each path or command in the names and texts of a hive's values.</summary>
internal static class PathMentions
{
    private const int MaxText = 65_536;

    // Windows nests keys no deeper. A damaged hive can hold cycles: both limits end them.
    private const int MaxDepth = 512, MaxKeys = 4_000_000;

    // Characters around a path. In a rule of the firewall there is "App=" in front, which starts nothing.
    private const string Before = "\"' @;,\\";
    private const string After = "\"' ;,\\";

    /// <param name="profile">Of the account whose hive it is; null for the machine's.</param>
    /// <exception cref="InvalidDataException">The hive is damaged.</exception>
    internal static IEnumerable<PathMention> Find(IRegistryKey root, IReadOnlyCollection<WindowsPath> folders, WindowsPath? profile)
    {
        var left = new Stack<(string Path, int Depth, IRegistryKey Key)>([("", 0, root)]);
        for (int keys = 0; left.TryPop(out var next); keys++)
        {
            if (keys == MaxKeys || next.Depth > MaxDepth)
                throw new InvalidDataException($"nests keys deeper than {MaxDepth} levels, or holds more than {MaxKeys:N0}");
            foreach (var value in next.Key.Values().Where(v => v.Data.Length <= MaxText))
            {
                var texts = (value.AsStrings() ?? [value.AsString() ?? ""]).Append(value.Name).Select(t => t.Replace('/', '\\')).ToList();
                foreach (var folder in folders.Where(f => texts.Exists(t => Leads(t, f, profile))))
                    yield return new PathMention(next.Path, value.Name, folder);
            }
            foreach (var child in next.Key.Children())
                left.Push((next.Path.Length == 0 ? child.Name : $@"{next.Path}\{child.Name}", next.Depth + 1, child));
        }
    }

    /// <summary>True if a text is a path into a folder, or a command with one.</summary>
    internal static bool Leads(string text, WindowsPath folder, WindowsPath? profile)
    {
        if (!text.Contains(folder.Name, StringComparison.OrdinalIgnoreCase))
            return false;
        string path = $@":\{folder}";
        const StringComparison AnyCase = StringComparison.OrdinalIgnoreCase;
        for (int at = text.IndexOf(path, AnyCase); at >= 0; at = text.IndexOf(path, at + 1, AnyCase))
        {
            int end = at + path.Length;
            if (at > 0 && char.IsAsciiLetter(text[at - 1]) && (at == 1 || Before.Contains(text[at - 2], StringComparison.Ordinal))
                && (end == text.Length || After.Contains(text[end], StringComparison.Ordinal)))
                return true;
        }
        return profile is not null && CommandLine.Program(text.TrimStart('@'), profile) is { } program
            && (program == folder || program.IsBelow(folder));
    }
}
