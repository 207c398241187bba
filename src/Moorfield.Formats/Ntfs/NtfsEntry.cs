namespace Moorfield.Formats.Ntfs;

/// <summary>A name in a folder.</summary>
/// <param name="Text">As it is spelled.</param>
/// <param name="Reference">Of the file that has it: its number, and above that how often the number was used.</param>
/// <param name="IsShort">True if it is only the short form of another.</param>
/// <param name="IsBoth">True if it is its own short form.</param>
public readonly record struct NtfsName(string Text, ulong Reference, bool IsShort, bool IsBoth)
{
    /// <summary>The bits of a reference that are the file's number.</summary>
    public const ulong NumberMask = 0xFFFF_FFFF_FFFF;
}

/// <summary>A volume's record of one file or folder.</summary>
/// <param name="Attributes">As Windows knows them.</param>
/// <param name="Tag">Of a reparse point; 0 when it is not one.</param>
/// <param name="Size">Bytes of the content as a program of Windows reads it; 0 for folders.</param>
/// <param name="Times">When it was made, changed, changed in any way, and looked at: units of 100 ns since 1601.</param>
/// <param name="Links">Names that it has, short ones included.</param>
/// <param name="Wof">How its content is compressed by the Windows Overlay Filter; null when it is not.</param>
public readonly record struct NtfsFileInfo(bool IsFolder, FileAttributes Attributes, uint Tag, long Size, NtfsTimes Times, int Links, WofForm? Wof)
{
    /// <summary>True if it is encrypted by the system.</summary>
    public bool IsEncrypted => Attributes.HasFlag(FileAttributes.Encrypted);
}

/// <summary>The four times of a file, in units of 100 ns since 1601.</summary>
public readonly record struct NtfsTimes(long Created, long Written, long Changed, long Accessed);
