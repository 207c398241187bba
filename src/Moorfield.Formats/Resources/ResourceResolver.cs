namespace Moorfield.Formats.Resources;

/// <summary>
/// Resolves references of the form <c>ms-resource:…</c> to texts, from the index of a package and those of its resource packages. Source:
/// docs/resources.md, "Resolution".
/// </summary>
/// <param name="main">The package's own index.</param>
/// <param name="packs">Those of its resource packages.</param>
/// <param name="packageName">Name of the package, by which a reference may name it as well.</param>
public sealed class ResourceResolver(ResourceIndex main, IReadOnlyCollection<ResourceIndex> packs, string packageName)
{
    private const string Scheme = "ms-resource:";
    private const int MaxSteps = 4;

    /// <summary>True if a text of a manifest is a reference.</summary>
    public static bool IsReference(string? text) => text?.StartsWith(Scheme, StringComparison.OrdinalIgnoreCase) == true;

    /// <summary>The text that a reference means; null when there is none.</summary>
    /// <param name="reference">As it is written.</param>
    /// <param name="languages">Language tags, the best first; with none, the text of the default that the package was built with.</param>
    /// <exception cref="InvalidDataException">An index is damaged where it is looked up.</exception>
    public string? Text(string reference, ImmutableArray<string> languages)
    {
        string text = reference;
        for (int step = 0; step < MaxSteps; step++)
        {
            if (Paths(text).Select(Candidates).FirstOrDefault(c => c.Count > 0) is not { } candidates || Best(candidates, languages) is not { } best)
                return null;
            text = best.Text;
            if (!IsReference(text))
                return text;
        }
        return null;
    }

    /// <summary>The places that a reference may mean, in the order in which they are tried.</summary>
    private IEnumerable<string> Paths(string reference)
    {
        string rest = reference[Scheme.Length..];
        string[] written;
        if (rest.StartsWith("//", StringComparison.Ordinal))
        {
            int end = rest.IndexOf('/', 2);
            string host = end < 0 ? rest[2..] : rest[2..end];
            if (end < 0 || (host.Length > 0 && !host.Equals(main.Name, StringComparison.OrdinalIgnoreCase)
                && !host.Equals(packageName, StringComparison.OrdinalIgnoreCase)))
                return [];
            written = [rest[(end + 1)..]];
        }
        else
        {
            written = rest.StartsWith('/') ? [rest[1..]] : [$"Resources/{rest}", rest];
        }
        // Names are compared as written first, then with their escapes taken for what they mean.
        return written.Concat(written.Select(Uri.UnescapeDataString)).Distinct(StringComparer.Ordinal);
    }

    private List<ResourceCandidate> Candidates(string path) =>
    [
        .. main.Find(path).Concat(packs.SelectMany(p => p.Name is null ? main.HasNamesOf(p) ? p.Find(path, main) : [] : p.Find(path)))
            .Where(c => c.IsText),
    ];

    private static ResourceCandidate? Best(List<ResourceCandidate> candidates, ImmutableArray<string> languages)
    {
        ResourceCandidate? best = null;
        List<(int Priority, int Score)>? bestScores = null;
        foreach (var candidate in candidates)
        {
            if (Scores(candidate, languages) is not { } scores || (bestScores is not null && Compare(scores, bestScores) <= 0))
                continue;
            (best, bestScores) = (candidate, scores);
        }
        return best ?? candidates.FirstOrDefault();
    }

    /// <summary>How well each qualifier fits, the most important first; null when one does not fit.</summary>
    private static List<(int Priority, int Score)>? Scores(ResourceCandidate candidate, ImmutableArray<string> languages)
    {
        var scores = new List<(int Priority, int Score)>();
        foreach (var qualifier in candidate.Qualifiers)
        {
            int match = qualifier.Kind == QualifierKind.Language ? LanguageMatch.Score(qualifier.Value, languages) : 0;
            int score = match > 0 ? LanguageMatch.MinScore + match : qualifier.Fallback;
            if (score <= 0)
                return null;
            scores.Add((qualifier.Priority, score));
        }
        scores.Sort((a, b) => b.CompareTo(a));
        return scores;
    }

    private static int Compare(List<(int Priority, int Score)> left, List<(int Priority, int Score)> right)
    {
        foreach (int priority in left.Concat(right).Select(s => s.Priority).Distinct().OrderDescending())
        {
            int compared = left.Find(s => s.Priority == priority).Score.CompareTo(right.Find(s => s.Priority == priority).Score);
            if (compared != 0)
                return compared;
        }
        return 0;
    }
}

/// <summary>How well language tags fit. Source: docs/resources.md, "Resolution"; the scripts of regions by BCP 47's registry.</summary>
internal static class LanguageMatch
{
    /// <summary>Above every fallback score.</summary>
    internal const int MinScore = 1000;

    private const int Step = 10;
    private const int Most = 1_000_000;
    private static readonly string[] TraditionalRegions = ["TW", "HK", "MO"];

    /// <summary>0 when a tag fits none of those that are wanted; else the more, the better.</summary>
    internal static int Score(string tag, ImmutableArray<string> wanted)
    {
        for (int i = 0; i < wanted.Length; i++)
        {
            if (Score(Parts(tag), Parts(wanted[i])) is > 0 and int score)
                return Most - (i * Step) + score;
        }
        return 0;
    }

    private static int Score((string Language, string? Script, string? Region) tag, (string Language, string? Script, string? Region) wanted)
    {
        if (!Same(tag.Language, wanted.Language) || (tag.Script is not null && wanted.Script is not null && !Same(tag.Script, wanted.Script)))
            return 0;
        return Same(tag.Region, wanted.Region) ? 4 : tag.Region is null ? 3 : wanted.Region is null ? 2 : 1;
    }

    private static bool Same(string? left, string? right) => string.Equals(left, right, StringComparison.OrdinalIgnoreCase);

    private static (string Language, string? Script, string? Region) Parts(string tag)
    {
        string[] parts = tag.Split('-');
        string? script = parts.Skip(1).FirstOrDefault(p => p.Length == 4 && char.IsAsciiLetter(p[0]));
        string? region = parts.Skip(1).FirstOrDefault(p => p.Length == 2 || (p.Length == 3 && char.IsAsciiDigit(p[0])));
        if (script is null && Same(parts[0], "zh"))
            script = TraditionalRegions.Contains(region, StringComparer.OrdinalIgnoreCase) ? "Hant" : "Hans";
        return (parts[0], script, region);
    }
}
