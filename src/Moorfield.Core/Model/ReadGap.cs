namespace Moorfield.Core.Model;

/// <summary>The kind of data that could not be read on a system.</summary>
public enum ReadGapKind
{
    /// <summary>Which users have which packages, or the machine's own registry: everything depends on it.</summary>
    Machine,
    /// <summary>The manifest of a package.</summary>
    Manifest,
    /// <summary>An account's choices of programs for file types and links.</summary>
    Choices,
    /// <summary>An account's data in its apps.</summary>
    Data,
}

/// <summary>Something that could not be looked at: what rests on it is not known, and never taken for nothing.</summary>
/// <param name="Sid">The account that it is about; null for none.</param>
/// <param name="Family">The family that it is about; null for all.</param>
public sealed record ReadGap(ReadGapKind Kind, string? Sid = null, PackageFamilyName? Family = null);
