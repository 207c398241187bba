namespace Moorfield.Core.Selection;

/// <summary>Reads for whom something is done.</summary>
public static class AudienceParser
{
    /// <summary>Reads the words of <c>--for</c> where accounts that they name may be missing: a machine of many has those that it has.</summary>
    /// <returns>Whom the words mean there, and the words that mean nobody there.</returns>
    /// <exception cref="MoorfieldException">No words, or an account that has its name twice.</exception>
    internal static (Audience Audience, IReadOnlyCollection<string> Absent) ParsePresent(IReadOnlyCollection<string> words, SystemSnapshot snapshot)
    {
        var absent = Split(words).Where(w => !ForAll.Contains(w, StringComparer.OrdinalIgnoreCase) && !snapshot.Accounts.Any(a => IsCalled(a, w)))
            .ToList();
        var present = Split(words).Except(absent).ToList();
        return (present.Count == 0 && absent.Count > 0 ? new Audience([], Newcomers: false) : Parse(present, snapshot), absent);
    }

    private static IEnumerable<string> Split(IReadOnlyCollection<string> words) =>
        words.SelectMany(w => w.Split(',', StringSplitOptions.RemoveEmptyEntries | StringSplitOptions.TrimEntries));

    private static bool IsCalled(Account account, string word) =>
        account.Name.Equals(word, StringComparison.OrdinalIgnoreCase) || account.Sid.Equals(word, StringComparison.OrdinalIgnoreCase);

    private static readonly string[] ForAll = ["everyone", "accounts", "newcomers"];

    /// <summary>Reads the words of <c>--for</c>: account names or SIDs, <c>accounts</c>, <c>newcomers</c>, <c>everyone</c>; commas allowed.
    /// In an image without accounts no words mean newcomers.</summary>
    /// <exception cref="MoorfieldException">No words, or an account that is not there or has its name twice.</exception>
    public static Audience Parse(IReadOnlyCollection<string> words, SystemSnapshot snapshot)
    {
        var sids = ImmutableArray.CreateBuilder<string>();
        bool newcomers = false;
        var all = Split(words).ToList();
        if (all.Count == 0 && snapshot is { EditionNumber: not null, Accounts.IsEmpty: true })
            return new Audience([], Newcomers: true);
        if (all.Count == 0)
            throw new MoorfieldException(ErrorKind.InvalidUsage, $"Say for whom with --for. {Choices(snapshot)}");
        foreach (string word in all)
        {
            switch (word.ToLowerInvariant())
            {
                case "everyone":
                    sids.AddRange(snapshot.Accounts.Select(a => a.Sid));
                    newcomers = true;
                    break;
                case "accounts":
                    sids.AddRange(snapshot.Accounts.Select(a => a.Sid));
                    break;
                case "newcomers":
                    newcomers = true;
                    break;
                default:
                    sids.Add(Account(word, snapshot).Sid);
                    break;
            }
        }
        return new Audience([.. sids.Distinct(StringComparer.OrdinalIgnoreCase)], newcomers);
    }

    private static Account Account(string word, SystemSnapshot snapshot)
    {
        var fitting = snapshot.Accounts.Where(a => IsCalled(a, word)).ToList();
        return fitting.Count switch
        {
            1 => fitting[0],
            0 => throw new MoorfieldException(ErrorKind.InvalidUsage,
            $"There is no account '{word}'. "
                + (AllWords.Contains(word, StringComparer.OrdinalIgnoreCase) ? "Did you mean everyone, or accounts? "
                    : snapshot.Accounts.Select(a => a.Name).Where(n => NamePattern.Letters(word, n) <= Math.Max(1, word.Length / 3))
                        .MinBy(n => NamePattern.Letters(word, n)) is { } near ? $"Did you mean {near}? " : "") + Choices(snapshot)),
            _ => throw new MoorfieldException(ErrorKind.InvalidUsage,
                $"'{word}' is the name of several accounts. Give the SID: {string.Join(" or ", fitting.Select(a => a.Sid))}."),
        };
    }

    private static readonly string[] AllWords = ["all", "any", "anyone", "everybody", "users", "all-users", "*"];

    private static string Choices(SystemSnapshot snapshot) =>
        $"Accounts here: {(snapshot.Accounts.IsEmpty ? "none" : string.Join(", ", snapshot.Accounts.Select(a => a.Name)))}. "
        + "Other choices: accounts (all of these), newcomers (accounts not yet made), everyone (both).";
}
