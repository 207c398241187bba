namespace Moorfield.Core.Model;

/// <summary>Tells packages of the machine's maker by their publisher.</summary>
public static class Maker
{
    /// <summary>True if a publisher's name begins with the first word of the maker's.</summary>
    /// <param name="maker">As the registry, a person or a brief names it; nobody is when it is empty.</param>
    public static bool Is(string maker, string publisher)
    {
        string first = maker.Split([' ', ',', '.'], StringSplitOptions.RemoveEmptyEntries).FirstOrDefault() ?? "";
        return first.Length >= 2 && publisher.StartsWith(first, StringComparison.OrdinalIgnoreCase)
            && (publisher.Length == first.Length || !char.IsLetterOrDigit(publisher[first.Length]));
    }

    /// <summary>A system whose maker a person names, because the system itself does not or says otherwise.</summary>
    public static SystemSnapshot Name(SystemSnapshot system, string maker) => system with
    {
        Manufacturer = maker,
        Packages = [.. system.Packages.Select(p => p.Origin is PackageOrigin.Extra or PackageOrigin.Added && Is(maker, p.Publisher)
        ? p with { Origin = PackageOrigin.Maker } : p)],
    };
}
