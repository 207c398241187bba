using Moorfield.Core.Trees;

namespace Moorfield.Core.Reading;

/// <summary>
/// Shadow copies of a volume, from which Windows' own restore points and previous versions of files come. Each has a file in the folder
/// System Volume Information, named by two identifiers; the second is always the same. Source: docs/on-disk.md, "Disks" [doc].
/// </summary>
internal static class ShadowCopies
{
    private const string Suffix = "}{3808876b-c176-4e48-b7ae-04046e6cc752}";

    /// <summary>How many there are.</summary>
    internal static int Count(WindowsTree tree) =>
        tree.List(WindowsPath.Root / "System Volume Information").Count(n => n.EndsWith(Suffix, StringComparison.OrdinalIgnoreCase));
}
