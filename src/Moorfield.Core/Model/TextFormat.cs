namespace Moorfield.Core.Model;

/// <summary>Puts lists into words.</summary>
public static class TextFormat
{
    private const int NamesShown = 3;
    private const int ObjectsShown = 6;

    /// <summary>"a", "a and b", "a, b and c", or some of them and how many more there are.</summary>
    /// <param name="most">How many to name; one more is named rather than counted.</param>
    public static string List(IEnumerable<string> items, int most = ObjectsShown)
    {
        var all = items.ToList();
        if (all.Count <= 1)
            return string.Concat(all);
        return all.Count <= most + 1
            ? $"{string.Join(", ", all[..^1])} and {all[^1]}"
            : $"{string.Join(", ", all[..most])} and {all.Count - most} more";
    }

    /// <summary>"1 package", "2 packages".</summary>
    /// <param name="many">Of several; with an s after <paramref name="one"/> when null.</param>
    public static string Count(int number, string one, string? many = null) => number == 1 ? $"1 {one}" : $"{number} {many ?? one + "s"}";

    /// <summary>A word as a POSIX shell takes it: as it is where that means itself, otherwise in single quotes.</summary>
    public static string Quoted(string word) =>
        word.Length > 0 && word.All(c => char.IsAsciiLetterOrDigit(c) || "-_./:=@%+,".Contains(c, StringComparison.Ordinal)) ? word
            : $"'{word.Replace("'", "'\\''", StringComparison.Ordinal)}'";

    /// <summary>A command of this program for a person to copy, in quotation marks where no word of it needs any itself.</summary>
    /// <param name="words">The words after the program's name. One that begins with a space is several words, quoted already, or none.</param>
    public static string Command(params ReadOnlySpan<string> words)
    {
        string command = "moorfield";
        bool isPlain = true;
        foreach (string word in words)
        {
            if (word.Length == 0 || word[0] == ' ')
            {
                command += word;
                isPlain &= !word.Contains('\'', StringComparison.Ordinal);
                continue;
            }
            string quoted = Quoted(word);
            isPlain &= quoted == word;
            command += $" {quoted}";
        }
        return isPlain ? $"'{command}'" : command;
    }

    internal static string Packages(IEnumerable<InstalledPackage> packages) =>
        List(packages.Select(p => p.DisplayName).Distinct(StringComparer.Ordinal).Order(StringComparer.OrdinalIgnoreCase), NamesShown);

    internal static ImmutableArray<string> Families(IEnumerable<InstalledPackage> packages) =>
    [.. packages.Select(p => p.Family.ToString()).Distinct().Order(StringComparer.OrdinalIgnoreCase)];

    /// <summary>Bytes in the unit that suits them: B, KB, MB or GB of 1024.</summary>
    public static string Size(long bytes) => bytes switch
    {
        < 1024 => $"{bytes} B",
        < 1024 * 1024 => string.Create(System.Globalization.CultureInfo.InvariantCulture, $"{bytes / 1024.0:0.0} KB"),
        < 1024L * 1024 * 1024 => string.Create(System.Globalization.CultureInfo.InvariantCulture, $"{bytes / (1024.0 * 1024):0.0} MB"),
        _ => string.Create(System.Globalization.CultureInfo.InvariantCulture, $"{bytes / (1024.0 * 1024 * 1024):0.0} GB"),
    };

    /// <summary>Reads a size such as 500 KB, 1.5MB or 2 GB; null when it is not one.</summary>
    public static long? ParseSize(string text)
    {
        string number = text.TrimEnd().TrimEnd([.. "BKMGbkmg"]).TrimEnd();
        string[] units = ["B", "KB", "MB", "GB"];
        string unit = text.TrimEnd()[number.Length..].Trim();
        int power = unit.Length == 0 ? 0 : Array.FindIndex(units, u => u.Equals(unit, StringComparison.OrdinalIgnoreCase));
        return power >= 0 && decimal.TryParse(number, System.Globalization.NumberStyles.AllowDecimalPoint,
            System.Globalization.CultureInfo.InvariantCulture, out decimal parsed) && parsed < 1_000_000_000
                ? (long)(parsed * (1L << (10 * power))) : null;
    }
}
