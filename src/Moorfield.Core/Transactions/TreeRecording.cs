using Moorfield.Core.Disks;
using Moorfield.Core.Images;
using Moorfield.Core.Model;
using Moorfield.Core.Storage;
using Moorfield.Core.Trees;
using Moorfield.Core.Vaults;

namespace Moorfield.Core.Transactions;

/// <summary>Records trees outside a run, whatever kind of target they are on.</summary>
internal static class TreeRecording
{
    /// <summary>Records a file, link or folder with all below it, contents in the vault; those of an image stay in its file.</summary>
    /// <param name="lost">Told of what cannot be recorded completely.</param>
    /// <returns>Null when nothing is there.</returns>
    internal static RecordedTree? Record(WindowsTree tree, WindowsPath path, Vault vault, Action<MissingContent> lost) => tree switch
    {
        WindowsVolume volume => volume.Record(path, vault.Keep, lost),
        DiskVolume disk => disk.Record(path, content => Keep(content, vault), lost)?.Invoke(),
        WimEdition edition => edition.Record(path),
        _ => throw new InvalidOperationException($"Nothing is recorded of a {tree.GetType().Name}."),
    };

    private static Func<string> Keep(InMemoryContent content, Vault vault)
    {
        using (content)
        {
            string name = vault.Keep(content.ForEachPiece);
            return () => name;
        }
    }
}
