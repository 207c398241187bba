using Moorfield.Formats.Ntfs;

namespace Moorfield.Core.Disks;

/// <summary>
/// The names in a folder of an NTFS volume. A name is looked for as it is, and then by the volume's own table of capitals: Windows can keep
/// names apart that differ in case only, and other tables join letters that this one does not.
/// </summary>
/// <param name="capitals">The table.</param>
internal sealed class NtfsNames(NtfsUpcaseTable capitals)
{
    private readonly Dictionary<string, NtfsName> _exact = new(StringComparer.Ordinal);
    private readonly Dictionary<string, NtfsName> _folded = new(StringComparer.Ordinal);

    internal int Count => _exact.Count;

    internal IEnumerable<NtfsName> All => _exact.Values;

    internal void Add(NtfsName name)
    {
        _exact.TryAdd(name.Text, name);
        _folded.TryAdd(capitals.Fold(name.Text), name);
    }

    /// <summary>The entry of a name; null when there is none.</summary>
    internal NtfsName? Find(string name) =>
        _exact.TryGetValue(name, out var exact) || _folded.TryGetValue(capitals.Fold(name), out exact) ? exact : null;
}
