using System.Text.Json.Serialization;

namespace Moorfield.Core.Vaults;

// The documents of a vault, version 1. Names here are those on disks: they are never renamed, whatever the core's own records are
// called, and what is added can be left out. tests/golden holds a vault of each version.

internal readonly record struct StoredTime(long Seconds, uint Nanoseconds);

internal sealed record StoredPlace(string FileSystem, ulong Inode);

internal sealed record StoredDevice(string Hardware, string Table, long Start, long Bytes, string Boot, long Sequence);

internal sealed record StoredDiskIdentity(StoredPlace? File = null, StoredDevice? Device = null, ImmutableArray<StoredPlace>? Others = null);

internal sealed record StoredTarget(string Path, string Computer, string MachineId, string Product, string Build, StoredPlace? Place = null,
    StoredDiskIdentity? Disk = null);

internal sealed record StoredPackage(string Family, string DisplayName, int? Edition = null);

internal sealed record StoredFile(string Path, string Before, string After, StoredTime Accessed, StoredTime Modified, int? Edition = null);

internal sealed record StoredDropped(string Sha1, long Offset, long StoredSize, long Size, byte Flags, string? Kept = null);

internal sealed record StoredImage(byte[] HeaderBefore, long LengthBefore, byte[] HeaderAfter, long LengthAfter,
ImmutableArray<StoredDropped> Dropped);

internal sealed record StoredValue(string Name, StoredValueType Type, ReadOnlyMemory<byte> Data);

/// <summary>Registry value types, by the names that documents have. Others are written as numbers.</summary>
internal enum StoredValueType
{
    None = 0,
    String = 1,
    ExpandString = 2,
    Binary = 3,
    DWord = 4,
    DWordBigEndian = 5,
    Link = 6,
    MultiString = 7,
    ResourceList = 8,
    FullResourceDescriptor = 9,
    ResourceRequirementsList = 10,
    QWord = 11,
}

internal sealed record StoredKey(string Name, ImmutableArray<StoredValue> Values, ImmutableArray<StoredKey> Keys);

internal sealed record StoredCell(string Column, string Type, string? Value);

internal sealed record StoredRow(string Table, long? RowId, ImmutableArray<StoredCell> Cells);

/// <param name="Record">Of an image's entries only.</param>
/// <param name="Ntfs">Of a disk's entries only; those of a volume have the rest.</param>
internal sealed record StoredEntry(
    string Path, string Kind, uint Mode, uint Uid, uint Gid, long Size, StoredTime Modified, StoredTime Accessed, string? Blob, string? LinkTarget,
    ImmutableSortedDictionary<string, byte[]> Attributes, byte[]? Record = null, byte[]? Security = null, StoredNtfs? Ntfs = null);

internal sealed record StoredStream(string Name, long Length, ushort Flags, string Blob);

/// <param name="Times">Made, written, changed, accessed, in units of 100 ns since 1601.</param>
internal sealed record StoredNtfs(
    uint Attributes, ImmutableArray<long> Times, byte[] Security, byte[] Reparse, byte[] Extended, byte[] ObjectId, string? ShortName, ulong File,
    ImmutableArray<StoredStream> Streams);

internal sealed record StoredDisk(string Journal, int Blocks, long Start);

internal sealed record StoredStateEntry(string Path, string Kind, long Size, StoredTime Modified, string? Content = null);

internal sealed record StoredStateTree(string Family, string Path, StoredTree Tree);

internal sealed record StoredSystem(int? Edition, string Name, ImmutableArray<StoredStateEntry> Entries, ImmutableArray<StoredStateTree> Trees);

internal sealed record StoredState(string Kind, bool WithFiles, ImmutableArray<StoredSystem> Systems);

internal sealed record StoredTree(StoredTime ParentModified, ImmutableArray<StoredEntry> Entries);

[JsonPolymorphic(TypeDiscriminatorPropertyName = "kind")]
[JsonDerivedType(typeof(StoredKeyRemoved), "registryKeyRemoved")]
[JsonDerivedType(typeof(StoredKeyAdded), "registryKeyAdded")]
[JsonDerivedType(typeof(StoredValueChanged), "registryValueSet")]
[JsonDerivedType(typeof(StoredRowsRemoved), "databaseRowsDeleted")]
[JsonDerivedType(typeof(StoredRowsAdded), "databaseRowsAdded")]
[JsonDerivedType(typeof(StoredEntryRemoved), "listEntryRemoved")]
[JsonDerivedType(typeof(StoredEntryAdded), "listEntryAdded")]
[JsonDerivedType(typeof(StoredTreeRemoved), "treeRemoved")]
[JsonDerivedType(typeof(StoredTreeAdded), "treeAdded")]
[JsonDerivedType(typeof(StoredLogsReplayed), "logsReplayed")]
[JsonDerivedType(typeof(StoredLogsReturned), "logsReturned")]
[JsonDerivedType(typeof(StoredEditionDropped), "editionDropped")]
[JsonDerivedType(typeof(StoredEditionReturned), "editionReturned")]
[JsonDerivedType(typeof(StoredEditionRenamed), "editionRenamed")]
internal abstract record StoredChange(string Family)
{
    public int? Edition { get; init; }
}

internal sealed record StoredKeyRemoved(string Family, string Hive, string Key, StoredKey? Image = null) : StoredChange(Family);

internal sealed record StoredKeyAdded(string Family, string Hive, string Key, StoredKey? Image = null) : StoredChange(Family);

internal sealed record StoredValueChanged(string Family, string Hive, string Key, string Name, StoredValue? Before, StoredValue? After)
: StoredChange(Family);

internal sealed record StoredTreeRemoved(string Family, string Path, StoredTree? Image = null) : StoredChange(Family);

internal sealed record StoredTreeAdded(string Family, string Path, StoredTree? Image = null) : StoredChange(Family);

internal sealed record StoredEntryRemoved(string Family, string File, string Text, int? Index = null, string? Gap = null) : StoredChange(Family);

internal sealed record StoredEntryAdded(string Family, string File, string Text, int? Index, string? Gap) : StoredChange(Family);

/// <param name="Database">Null for the usual place, and in older documents.</param>
internal sealed record StoredRowsRemoved(
    string Family, string? FullName, string? Sid, ImmutableArray<StoredRow>? Rows = null, string? Database = null) : StoredChange(Family);

/// <param name="Database">Null for the usual place, and in older documents.</param>
internal sealed record StoredRowsAdded(string Family, ImmutableArray<StoredRow>? Rows, string? Database = null) : StoredChange(Family);

internal sealed record StoredLogsReplayed(string Hive, int Writes) : StoredChange("");

internal sealed record StoredLogsReturned(string Hive, int Writes) : StoredChange("");

internal sealed record StoredEditionDropped(int Number, string Name) : StoredChange("");

internal sealed record StoredEditionReturned(int Number, string Name) : StoredChange("");

internal sealed record StoredEditionRenamed(int Number, string NameBefore, string NameAfter, string DescriptionBefore, string DescriptionAfter)
    : StoredChange("");

internal sealed record StoredIntent(string Kind, int? Edition, string Subject, ImmutableArray<string> Sids, bool Newcomers, bool KeepsData = false);

/// <summary>A key of a restore point, encrypted under another.</summary>
/// <param name="By">volume or keyFile.</param>
/// <param name="Id">Identifier of the volume, or name of the key in the file.</param>
internal sealed record StoredWrap(string By, string Id, byte[] Key);

/// <summary>The encrypted part of a restore point.</summary>
/// <param name="Changes">How many it has.</param>
/// <param name="Contents">Names of the contents that it needs, as their files have them.</param>
/// <param name="Body">A <see cref="StoredBody"/>, compressed and sealed.</param>
internal sealed record StoredSeal(Guid Key, ImmutableArray<StoredWrap> Wraps, int Changes, ImmutableArray<string> Contents, byte[] Body);

/// <summary>Another key under which contents lie that a restore point needs.</summary>
internal sealed record StoredOtherKey(Guid Id, byte[] Key);

internal sealed record StoredBody(ImmutableArray<StoredFile> Files, ImmutableArray<StoredChange> Changes, StoredState? State,
    ImmutableArray<StoredOtherKey> Keys);

/// <param name="Intents">Missing in documents of earlier versions.</param>
/// <param name="Seal">Has files, changes and state when the restore point is encrypted, and they are empty here.</param>
internal sealed record StoredPoint(
    string Schema, int Number, string Kind, int? Undoes, DateTimeOffset Created, string Title, string? Note, StoredTarget Target,
    ImmutableArray<StoredPackage> Packages, ImmutableArray<StoredFile> Files, ImmutableArray<StoredChange> Changes, StoredImage? Image = null,
    ImmutableArray<StoredIntent>? Intents = null, StoredDisk? Disk = null, StoredState? State = null, StoredSeal? Seal = null);

internal sealed record StoredHeadPoint(
    int Number, string Kind, int? Undoes, DateTimeOffset Created, string Title, string? Note, StoredTarget Target,
    ImmutableArray<StoredPackage> Packages, int Changes, bool IsImage, ImmutableArray<StoredIntent> Intents, bool IsSealed = false);

/// <param name="DocumentBytes">Of the document that it is the head of.</param>
internal sealed record StoredHead(string Schema, long DocumentBytes, StoredHeadPoint Head);

/// <param name="Sealed">A list of <paramref name="What"/> and <paramref name="Message"/> of a failure, encrypted.</param>
internal sealed record StoredLine(DateTimeOffset At, string Step, string? What = null, string? Message = null, string? Family = null,
    int? Edition = null, byte[]? Sealed = null);

internal sealed record StoredMarker(int Point, string Vault, StoredTime RootModified, StoredTime RootAccessed, long? Start = null,
    string? Blocks = null, StoredDiskIdentity? Disk = null, string? Path = null);

/// <summary>Options shared by all documents of the vault.</summary>
[JsonSourceGenerationOptions(
    PropertyNamingPolicy = JsonKnownNamingPolicy.CamelCase, UseStringEnumConverter = true, WriteIndented = false,
    DefaultIgnoreCondition = JsonIgnoreCondition.WhenWritingNull, MaxDepth = 1200, RespectNullableAnnotations = true)]
[JsonSerializable(typeof(StoredPoint))]
[JsonSerializable(typeof(StoredBody))]
[JsonSerializable(typeof(string[]))]
[JsonSerializable(typeof(StoredHead))]
[JsonSerializable(typeof(StoredLine))]
[JsonSerializable(typeof(StoredMarker))]
internal sealed partial class VaultJson : JsonSerializerContext;
