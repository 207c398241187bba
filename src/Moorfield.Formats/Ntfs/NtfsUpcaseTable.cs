namespace Moorfield.Formats.Ntfs;

/// <summary>
/// The capital of each UTF-16 unit by which a volume compares names: its file $UpCase, 65,536 units of 16 bits. Source: docs/on-disk.md,
/// "Disks".
/// </summary>
public sealed class NtfsUpcaseTable
{
    internal const ulong FileNumber = 10;
    internal const int Units = 1 << 16;
    private readonly ushort[] _table;

    /// <param name="content">Of $UpCase; a table that is too short or too long is not used, and the runtime's is.</param>
    public NtfsUpcaseTable(ReadOnlySpan<byte> content)
    {
        _table = new ushort[Units];
        if (content.Length == Units * sizeof(ushort) && BitConverter.IsLittleEndian)
        {
            MemoryMarshal.Cast<byte, ushort>(content).CopyTo(_table);
            return;
        }
        for (int i = 0; i < Units; i++)
            _table[i] = char.ToUpperInvariant((char)i);
    }

    /// <summary>A name in capitals, unit by unit: two names are one to the volume when these are the same.</summary>
    public string Fold(string name) => string.Create(name.Length, (name, _table), static (folded, state) =>
    {
        for (int i = 0; i < folded.Length; i++)
            folded[i] = (char)state._table[state.name[i]];
    });
}
