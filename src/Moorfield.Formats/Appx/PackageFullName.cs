namespace Moorfield.Formats.Appx;

/// <summary>
/// <c>Name_Version_Architecture_ResourceId_PublisherId</c>: one version of a package for one architecture. Compared without
/// regard to case; the spelling read is kept. Source: docs/on-disk.md, "Identity" [doc].
/// </summary>
public sealed class PackageFullName : IEquatable<PackageFullName>, IComparable<PackageFullName>
{
    /// <summary>The resource id that marks a bundle.</summary>
    public const string BundleResourceId = "~";

    /// <summary>Architectures that the platform writes. Source: docs/on-disk.md, "Identity" [doc].</summary>
    private static readonly string[] Architectures = ["x86", "x64", "arm", "arm64", "neutral", "x86a64"];

    private readonly string _text;

    /// <summary>Puts a full name together from parts that are known to be well formed.</summary>
    /// <exception cref="FormatException">A part is not well formed.</exception>
    public PackageFullName(string name, PackageVersion version, string architecture, string resourceId, string publisherId)
        : this($"{name}_{version}_{architecture}_{resourceId}_{publisherId}", name, version, architecture, resourceId, publisherId)
    {
        if (!IsWellFormedName(name) || !IsArchitecture(architecture) || !IsResourceId(resourceId) || !PublisherId.IsWellFormed(publisherId))
            throw new FormatException($"'{_text}' is not a package full name.");
    }

    private PackageFullName(string text, string name, PackageVersion version, string architecture, string resourceId, string publisherId)
    {
        _text = text;
        Name = name;
        Version = version;
        Architecture = architecture;
        ResourceId = resourceId;
        Family = new PackageFamilyName(name, publisherId);
    }

    /// <summary>3 to 50 characters of <c>A-Z a-z 0-9 . -</c>.</summary>
    public string Name { get; }

    /// <summary>Four numbers from 0 to 65535.</summary>
    public PackageVersion Version { get; }

    /// <summary>One of <c>x86 x64 arm arm64 neutral x86a64</c>.</summary>
    public string Architecture { get; }

    /// <summary>Often empty; <c>~</c> marks a bundle.</summary>
    public string ResourceId { get; }

    /// <summary>The family that it is a version of.</summary>
    public PackageFamilyName Family { get; }

    /// <summary>True if it is the full name of a bundle.</summary>
    public bool IsBundle => ResourceId == BundleResourceId;

    /// <summary>Reads a full name; false when a part is missing or not well formed.</summary>
    public static bool TryParse(string text, [System.Diagnostics.CodeAnalysis.NotNullWhen(true)] out PackageFullName? fullName)
    {
        fullName = null;
        if (text.Length > 255)
            return false;
        string[] parts = text.Split('_');
        if (parts.Length != 5 || !PackageVersion.TryParse(parts[1], out var version) || !IsWellFormedName(parts[0])
            || !IsArchitecture(parts[2]) || !IsResourceId(parts[3]) || !PublisherId.IsWellFormed(parts[4]))
            return false;
        fullName = new PackageFullName(text, parts[0], version, parts[2], parts[3], parts[4]);
        return true;
    }

    internal static bool IsWellFormedName(ReadOnlySpan<char> name) => name.Length is >= 3 and <= 50 && AreNameCharacters(name);

    internal static bool IsArchitecture(string text) => Architectures.Contains(text, StringComparer.OrdinalIgnoreCase);

    internal static bool IsResourceId(string text) => text == BundleResourceId || (text.Length <= 30 && AreNameCharacters(text));

    private static bool AreNameCharacters(ReadOnlySpan<char> text)
    {
        foreach (char c in text)
        {
            if (!char.IsAsciiLetterOrDigit(c) && c is not '.' and not '-')
                return false;
        }
        return true;
    }

    public bool Equals(PackageFullName? other) => other is not null && _text.Equals(other._text, StringComparison.OrdinalIgnoreCase);

    public override bool Equals(object? obj) => Equals(obj as PackageFullName);

    public override int GetHashCode() => _text.GetHashCode(StringComparison.OrdinalIgnoreCase);

    /// <summary>By name, then version, then the rest.</summary>
    public int CompareTo(PackageFullName? other)
    {
        if (other is null)
            return 1;
        int order = string.Compare(Name, other.Name, StringComparison.OrdinalIgnoreCase);
        if (order == 0)
            order = Version.CompareTo(other.Version);
        return order != 0 ? order : string.Compare(_text, other._text, StringComparison.OrdinalIgnoreCase);
    }

    public static bool operator <(PackageFullName left, PackageFullName right) => left.CompareTo(right) < 0;
    public static bool operator >(PackageFullName left, PackageFullName right) => left.CompareTo(right) > 0;
    public static bool operator <=(PackageFullName left, PackageFullName right) => left.CompareTo(right) <= 0;
    public static bool operator >=(PackageFullName left, PackageFullName right) => left.CompareTo(right) >= 0;
    public static bool operator ==(PackageFullName? left, PackageFullName? right) => left is null ? right is null : left.Equals(right);
    public static bool operator !=(PackageFullName? left, PackageFullName? right) => !(left == right);

    public override string ToString() => _text;
}
