namespace Moorfield.Core.Assessment;

/// <summary>A remark on a package that should not go without a thought.</summary>
/// <param name="Package">As PACKAGE on the command line.</param>
public sealed record PackageNote(string Package, string Text);

/// <summary>Packages that a package cannot do without.</summary>
/// <param name="Package">As PACKAGE on the command line, like each of the needs.</param>
public sealed record PackageNeed(string Package, ImmutableArray<string> Needs);

/// <summary>An administrator's knowledge of packages that their manifests do not contain.</summary>
public sealed record Advice(ImmutableArray<PackageNote> Notes, ImmutableArray<PackageNeed> Needs)
{
    /// <summary>No additional knowledge.</summary>
    public static Advice None { get; } = new([], []);

    internal Advice Merge(Advice other) => new([.. Notes, .. other.Notes], [.. Needs, .. other.Needs]);

    internal IEnumerable<string> NotesOn(InstalledPackage package) =>
    Notes.Where(n => NamePattern.FitsLasting(n.Package, package)).Select(n => n.Text).Distinct(StringComparer.Ordinal);

    internal bool Confirms(InstalledPackage package, InstalledPackage needs) =>
        Needs.Any(n => NamePattern.FitsLasting(n.Package, package) && n.Needs.Any(other => NamePattern.FitsLasting(other, needs)));
}
