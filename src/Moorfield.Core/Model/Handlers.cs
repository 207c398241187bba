namespace Moorfield.Core.Model;

/// <summary>The program that opens a file type or a link scheme.</summary>
/// <param name="Sid">The account that chose it; null for what new accounts are given.</param>
/// <param name="What">A file type with its dot, or a scheme without its colon.</param>
/// <param name="Family">The package's; null when it is a desktop program, or not known whose it is.</param>
public sealed record ChosenHandler(string? Sid, string What, PackageFamilyName? Family);

/// <summary>Who opens file types and links, next to the packages whose manifests say so.</summary>
/// <param name="Classic">The file types and schemes that a desktop program opens for everyone.</param>
/// <param name="AccountClassic">The file types and schemes that a desktop program opens for one account, by SID.</param>
/// <param name="Chosen">The choices of accounts, and those that new accounts are given.</param>
public sealed record Handlers(
    ImmutableHashSet<string> Classic, ImmutableDictionary<string, ImmutableHashSet<string>> AccountClassic, ImmutableArray<ChosenHandler> Chosen)
{
    /// <summary>Nothing is known of handlers.</summary>
    public static Handlers None { get; } = new([], ImmutableDictionary<string, ImmutableHashSet<string>>.Empty, []);

    /// <summary>True if a desktop program opens it.</summary>
    /// <param name="sid">For an account, or null for new ones.</param>
    public bool HasClassic(string what, string? sid) =>
        Classic.Contains(what) || (sid is not null && AccountClassic.TryGetValue(sid, out var own) && own.Contains(what));
}
