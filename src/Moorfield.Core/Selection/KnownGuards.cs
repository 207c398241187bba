namespace Moorfield.Core.Selection;

/// <summary>The guards that Moorfield knows by name, from <c>guards.yaml</c>.</summary>
public static class KnownGuards
{
    private static readonly Lazy<ImmutableArray<Guard>> Guards = new(() =>
    {
        using var text = new StreamReader(typeof(KnownGuards).Assembly.GetManifestResourceStream("guards.yaml")!);
        return new BriefReader("guards.yaml").ReadKnownGuards(text.ReadToEnd());
    });

    /// <summary>In the order of the file.</summary>
    public static ImmutableArray<Guard> All => Guards.Value;

    /// <summary>All, and those of a brief.</summary>
    public static ImmutableArray<Guard> With(Brief? brief) => [.. All.Union(brief?.Guards ?? [])];

    /// <summary>The guards of these names, any case; all when none is given.</summary>
    /// <exception cref="MoorfieldException">There is none of a name.</exception>
    public static ImmutableArray<Guard> Find(IReadOnlyCollection<string> names) => names.Count == 0 ? All : [.. names.Select(Find).Distinct()];

    internal static Guard Find(string name) =>
    All.FirstOrDefault(g => g.Name!.Equals(name, StringComparison.OrdinalIgnoreCase)) ?? throw new MoorfieldException(
        ErrorKind.InvalidUsage, $"There is no guard '{name}'. The nearest is '{All.MinBy(g => NamePattern.Distance(name, g.Name!))!.Name}'; "
        + "'moorfield guard TARGET' lists all.");
}
