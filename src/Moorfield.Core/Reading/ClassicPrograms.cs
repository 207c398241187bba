namespace Moorfield.Core.Reading;

/// <summary>Reads Uninstall keys. Source: docs/on-disk.md, "Registry" [doc].</summary>
internal static class ClassicPrograms
{
    private const long Kibibyte = 1024;

    /// <summary>The programs below a key; those that are parts of others, or have no name, are not listed by Windows either. [seen]</summary>
    internal static IEnumerable<ClassicProgram> Read(IRegistry hive, string place, string? sid)
    {
        foreach (var key in hive.Find(place)?.Children() ?? [])
        {
            if (key.Text("DisplayName") is not { Length: > 0 } name || key.Value("SystemComponent")?.AsDWord() == 1
            || key.Text("ParentKeyName") is { Length: > 0 })
                continue;
            yield return new ClassicProgram(
                name, key.Text("DisplayVersion") ?? "", key.Text("Publisher") ?? "", (key.Value("EstimatedSize")?.AsDWord() ?? 0) * Kibibyte,
                key.Text("UninstallString") is { Length: > 0 } command ? command : null, sid) { Key = $@"{place}\{key.Name}" };
        }
    }

    internal static ImmutableArray<ClassicProgram> Sorted(IEnumerable<ClassicProgram> programs) =>
        [.. programs.DistinctBy(p => p with { Key = null }).OrderBy(p => p.Name, StringComparer.OrdinalIgnoreCase)
            .ThenBy(p => p.Sid, StringComparer.Ordinal)];
}
