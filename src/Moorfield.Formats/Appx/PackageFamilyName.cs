namespace Moorfield.Formats.Appx;

/// <summary>
/// <c>Name_PublisherId</c>: a package in all its versions. Compared without regard to case. Source: docs/on-disk.md, "Identity" [doc].
/// </summary>
public readonly struct PackageFamilyName : IEquatable<PackageFamilyName>, IComparable<PackageFamilyName>
{
    private readonly string? _text;

    internal PackageFamilyName(string name, string publisherId) => _text = $"{name}_{publisherId}";

    private PackageFamilyName(string text) => _text = text;

    private string Text => _text ?? "";

    /// <summary>The package's name, 3 to 50 characters.</summary>
    public string Name => Text.Length > PublisherId.Length ? Text[..^(PublisherId.Length + 1)] : "";

    /// <summary>The publisher's id, 13 characters.</summary>
    public string Publisher => Text.Length > PublisherId.Length ? Text[^PublisherId.Length..] : "";

    /// <summary>Reads a family name. False when the name or the publisher id is not well formed.</summary>
    public static bool TryParse(ReadOnlySpan<char> text, out PackageFamilyName family)
    {
        int underscore = text.LastIndexOf('_');
        bool ok = underscore > 0 && PackageFullName.IsWellFormedName(text[..underscore]) && PublisherId.IsWellFormed(text[(underscore + 1)..]);
        family = ok ? new PackageFamilyName(text.ToString()) : default;
        return ok;
    }

    public bool Equals(PackageFamilyName other) => Text.Equals(other.Text, StringComparison.OrdinalIgnoreCase);

    public override bool Equals(object? obj) => obj is PackageFamilyName other && Equals(other);

    public override int GetHashCode() => Text.GetHashCode(StringComparison.OrdinalIgnoreCase);

    public int CompareTo(PackageFamilyName other) => string.Compare(Text, other.Text, StringComparison.OrdinalIgnoreCase);

    public static bool operator ==(PackageFamilyName left, PackageFamilyName right) => left.Equals(right);
    public static bool operator !=(PackageFamilyName left, PackageFamilyName right) => !left.Equals(right);
    public static bool operator <(PackageFamilyName left, PackageFamilyName right) => left.CompareTo(right) < 0;
    public static bool operator >(PackageFamilyName left, PackageFamilyName right) => left.CompareTo(right) > 0;
    public static bool operator <=(PackageFamilyName left, PackageFamilyName right) => left.CompareTo(right) <= 0;
    public static bool operator >=(PackageFamilyName left, PackageFamilyName right) => left.CompareTo(right) >= 0;

    public override string ToString() => Text;
}
