using Moorfield.Core.Disks;
using Moorfield.Core.Layout;
using Moorfield.Core.Storage;

namespace Moorfield.Core.Vaults;

/// <summary>The kind of a run.</summary>
public enum RunKind
{
    /// <summary>Removes packages, or leftovers.</summary>
    Remove,
    /// <summary>Sets blocks.</summary>
    Block,
    /// <summary>Lifts blocks.</summary>
    Unblock,
    /// <summary>Undoes another run.</summary>
    Undo,
    /// <summary>Sets guards.</summary>
    Guard,
    /// <summary>Lifts guards.</summary>
    Unguard,
    /// <summary>Drops editions of an image file, or renames them.</summary>
    Editions,
    /// <summary>Changes nothing: the state is recorded as it is.</summary>
    Record,
    /// <summary>Brings packages back.</summary>
    BringBack,
}

/// <summary>Which system a restore point belongs to.</summary>
/// <param name="Path">Where it was mounted, or the image file.</param>
/// <param name="Computer">Name of the computer, or of the image file.</param>
/// <param name="MachineId">The system's MachineGuid, or the image file's GUID, which must be the same when it is undone.</param>
/// <param name="Place">Which folder of which file system; null for an image, and in restore points of earlier versions.</param>
public sealed record TargetIdentity(string Path, string Computer, string MachineId, string Product, string Build, TargetLocation? Place = null)
{
    /// <summary>Which disk it is on, for a disk; null for other targets, and in restore points of earlier versions.</summary>
    public DiskIdentity? Disk { get; init; }

    /// <summary>True if this is the very target of another run: the same system or image, in the same place. A copy or a moved one is not.</summary>
    public bool IsSameAs(TargetIdentity other) => IsSameSystemAs(other) && (Disk is not null && other.Disk is not null
        ? Place == other.Place && Disk.IsSame(other.Disk) : IsAt(other.Path, other.Place));

    /// <summary>True if it is the same system or image, here or in another place.</summary>
    public bool IsSameSystemAs(TargetIdentity other) => MachineId.Equals(other.MachineId, StringComparison.OrdinalIgnoreCase);

    internal bool IsAt(string path, TargetLocation? place) =>
    (Place is null || place is null || Place == place) && (Path == path || TargetLocation.IsSameFile(Path, path));
}

/// <summary>A package that a run was about.</summary>
/// <param name="Edition">Number of the edition; null on a volume.</param>
public sealed record ConcernedPackage(string Family, string DisplayName, int? Edition = null);

/// <summary>A file whose content was replaced whole, with both contents by SHA-256 or, in an image, by SHA-1.</summary>
/// <param name="Edition">Number of the edition; null on a volume.</param>
public sealed record ReplacedFile(WindowsPath Path, string Before, string After, FileTime Accessed, FileTime Modified, int? Edition = null);

/// <summary>An image file before and after a run. With the old header and the old length it is what it was, to the last byte.</summary>
/// <param name="HeaderBefore">208 bytes.</param>
/// <param name="LengthBefore">Bytes of the file.</param>
/// <param name="Dropped">Contents that nothing refers to since.</param>
public sealed record ImageState(byte[] HeaderBefore, long LengthBefore, byte[] HeaderAfter, long LengthAfter, ImmutableArray<DroppedContent> Dropped);

/// <summary>A content that an image no longer refers to. Its bytes stay in the file until it is compacted.</summary>
/// <param name="Sha1">40 hexadecimal digits.</param>
/// <param name="Offset">Of its resource in the file.</param>
/// <param name="StoredSize">Bytes of its resource in the file.</param>
/// <param name="Flags">Of its resource.</param>
/// <param name="Kept">SHA-256 under which the vault has it; null when it has not.</param>
public sealed record DroppedContent(string Sha1, long Offset, long StoredSize, long Size, byte Flags, string? Kept = null);

/// <summary>A run's changes to a disk, block by block.</summary>
/// <param name="Journal">SHA-256 under which the vault has the old content of the blocks.</param>
/// <param name="Blocks">How many there are.</param>
/// <param name="Start">Where the volume begins on the disk, in bytes.</param>
public sealed record DiskState(string Journal, int Blocks, long Start);

/// <summary>One run, recorded before its first change. Immutable once written; how far the run came is in its journal.</summary>
/// <param name="Undoes">The point that this run undid; null for other kinds.</param>
/// <param name="Title">One line: what the run was to do.</param>
public sealed record RestorePoint(
    int Number, RunKind Kind, int? Undoes, DateTimeOffset Created, string Title, string? Note, TargetIdentity Target,
    ImmutableArray<ConcernedPackage> Packages, ImmutableArray<ReplacedFile> Files, ImmutableArray<Change> Changes, ImageState? Image = null)
{
    /// <summary>The run's intentions, part by part; empty for an undo, and in restore points of earlier versions.</summary>
    public ImmutableArray<Intent> Intents { get; init; } = [];

    /// <summary>The blocks of a disk before the run; null for other targets.</summary>
    public DiskState? Disk { get; init; }

    /// <summary>The recorded state; null for a run.</summary>
    public RecordedState? State { get; init; }

    /// <summary>True if its changes and contents lie encrypted in the vault.</summary>
    public bool IsSealed { get; init; }

    /// <summary>The packages that it concerns.</summary>
    public PointHead Head => new(
        Number, Kind, Undoes, Created, Title, Note, Target, Packages, Changes.Length, Image is not null, Intents.IsEmpty ? [.. Blocks()] : Intents,
        IsSealed);

    private IEnumerable<Intent> Blocks() => Changes.OfType<KeyAdded>()
        .Where(c => c.Hive == Places.Software && c.Key.StartsWith(Places.Blocks + @"\", StringComparison.OrdinalIgnoreCase))
        .Select(c => Intent.Of(IntentKind.Block, c.Edition, c.Key[(Places.Blocks.Length + 1)..]));
}

/// <summary>The head of a restore point: everything without its before-images.</summary>
/// <param name="Changes">How many it has.</param>
/// <param name="IsImage">True if it is that of a run on an image which knows the file before and after.</param>
/// <param name="Intents">The run's intentions, part by part; for points of earlier versions only the blocks.</param>
/// <param name="IsSealed">True if the rest lies encrypted in the vault.</param>
public sealed record PointHead(
    int Number, RunKind Kind, int? Undoes, DateTimeOffset Created, string Title, string? Note, TargetIdentity Target,
    ImmutableArray<ConcernedPackage> Packages, int Changes, bool IsImage, ImmutableArray<Intent> Intents, bool IsSealed = false);

/// <summary>One line of a restore point's journal.</summary>
/// <param name="Step">started, done, failed, finished, notTaken, filesGone when the image was compacted since, back when everything was found
/// as it had been, unmarked when the marker is off the target, pinned, unpinned, or noted when it got another remark.</param>
/// <param name="What">For started, "marked" when there is a marker on the target or next to it.</param>
/// <param name="Family">Of what failed.</param>
/// <param name="Edition">Of what failed; null on a volume.</param>
public sealed record JournalLine(DateTimeOffset At, string Step, string? What = null, string? Message = null, string? Family = null,
    int? Edition = null)
{
    internal const string Started = "started";
    internal const string Done = "done";
    internal const string Failed = "failed";
    internal const string Finished = "finished";
    internal const string NotTaken = "notTaken";
    internal const string FilesGone = "filesGone";
    internal const string Back = "back";
    internal const string Unmarked = "unmarked";
    internal const string Marked = "marked";
    internal const string Pinned = "pinned";
    internal const string Unpinned = "unpinned";
    internal const string Noted = "noted";
}

/// <summary>The file at a target's root while a run is under way.</summary>
/// <param name="Point">Of the restore point; 0 for a run on a disk without one.</param>
internal sealed record RunMarker(int Point, string Vault, FileTime RootModified, FileTime RootAccessed)
{
    /// <summary>Where the volume begins whose blocks are recorded next to the marker; null when a restore point has them.</summary>
    internal long? Start { get; init; }

    /// <summary>SHA-256 of the blocks that are recorded next to the marker, in lower-case hexadecimal; null when a restore point has them.</summary>
    internal string? Blocks { get; init; }

    /// <summary>The disk that the run is on; null for a folder.</summary>
    internal DiskIdentity? Disk { get; init; }

    /// <summary>Path of the disk when the run began; empty for a folder.</summary>
    internal string Path { get; init; } = "";

    internal const string FileName = ".moorfield-run.json";
}
