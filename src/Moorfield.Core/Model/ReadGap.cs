namespace Moorfield.Core.Model;

/// <summary>What could not be looked at on a system.</summary>
public enum ReadGapKind
{
    /// <summary>Which users have which packages, or the machine's own registry: everything depends on it.</summary>
    Machine,
    /// <summary>What a package says of itself.</summary>
    Manifest,
    /// <summary>What an account opens file types and links with.</summary>
    Choices,
    /// <summary>What an account has in its apps.</summary>
    Data,
}

/// <summary>Something that could not be looked at: what rests on it is not known, and never taken for nothing.</summary>
/// <param name="Sid">The account that it is about; null for none.</param>
/// <param name="Family">The family that it is about; null for all.</param>
public sealed record ReadGap(ReadGapKind Kind, string? Sid = null, PackageFamilyName? Family = null);
