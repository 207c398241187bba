using Moorfield.Core.Storage;
using Moorfield.Core.Trees;
using Moorfield.Formats.Ntfs;
using Moorfield.Formats.Wim;

namespace Moorfield.Core.Vaults;

/// <summary>Looks whether a document of a vault, which anyone may have written, means something, before anything is done by it.</summary>
internal static class PointCheck
{
    private const uint MaxNanoseconds = 999_999_999;
    private const int MaxFact = 64 << 10;

    /// <summary>The fault, in a few words; null when it is sound.</summary>
    internal static string? Fault(PointHead point)
    {
        if (point.Number <= 0 || point.Undoes is <= 0)
            return "a number is not above 0";
        if (!Enum.IsDefined(point.Kind))
            return "it is of no kind that is known";
        if (IsBad(point.Title) || point.Target is null || IsBad(point.Target.Path) || IsBad(point.Target.MachineId) || IsBad(point.Target.Computer)
            || !Path.IsPathRooted(point.Target.Path))
            return "it does not say what its target is";
        if (point.Packages.Any(p => p is null || IsBad(p.Family) || IsBad(p.DisplayName) || p.Edition is < 1))
            return "a package has no name";
        return point.Intents.Any(i => i is null || !Enum.IsDefined(i.Kind) || IsBad(i.Subject) || i.Edition is < 1 || i.Sids.Any(IsBad))
            ? "it does not say what it is for" : null;
    }

    /// <summary>The same of a whole restore point.</summary>
    internal static string? Fault(RestorePoint point)
    {
        if (Fault(point.Head) is { } fault)
            return fault;
        foreach (var file in point.Files)
        {
            if (!IsPlace(file.Path) || !IsContent(file.Before, file.Edition) || !IsContent(file.After, file.Edition)
                || !IsTime(file.Accessed) || !IsTime(file.Modified) || file.Edition is < 1)
                return $"the file '{file.Path}' is not described as one of a system";
        }
        foreach (var change in point.Changes)
        {
            if (IsBad(change.Family) || change.Edition is < 1 || !IsSound(change))
                return $"a change is not one that can be made ({change.GetType().Name})";
        }
        if (point.Disk is { } disk && !IsSound(disk))
            return "it does not say what the disk was";
        if ((point.Kind == RunKind.Record) != (point.State is not null) || (point.State is { } state && !IsSound(state)))
            return "it does not say what the state was";
        return point.Image is { } image && !IsSound(image) ? "it does not say what the image was" : null;
    }

    internal static bool IsSound(StoredSeal seal) => !seal.Wraps.IsDefault && !seal.Contents.IsDefault && seal.Body is not null && seal.Changes >= 0
        && seal.Wraps.All(w => w is { By: not null, Id: not null, Key: not null }) && seal.Contents.All(c => c is not null && Vault.IsHash(c));

    internal static bool IsSound(DiskState disk) => Vault.IsHash(disk.Journal ?? "") && disk is { Blocks: >= 0, Start: >= 0 };

    private static bool IsSound(RecordedState state) => !state.Systems.IsEmpty && state.Kind is "volume" or "disk" or "image"
        && state.Systems.All(s => s.Edition is null or > 0 && !IsBad(s.Name)
            && s.Entries.All(e => IsPlace(e.Path) && e.Size >= 0 && IsTime(e.Modified) && (e.Content is null || Vault.IsHash(e.Content)))
            && s.Trees.All(t => !IsBad(t.Family) && IsPlace(t.Path) && IsTree(t.Tree)));

    private static bool IsSound(Change change) => change switch
    {
        KeyRemoved removed => IsKey(removed) && (removed.Recorded is null || IsKey(removed.Recorded, 0)),
        KeyAdded added => IsKey(added) && (added.Recorded is null || IsKey(added.Recorded, 0)),
        ValueChanged value => IsKey(value) && !IsBad(value.Name) && IsValue(value.Before) && IsValue(value.After),
        TreeChange tree => IsPlace(tree.Path) && tree.Recorded is { } recorded && IsTree(recorded),
        EntryChange entry => IsPlace(entry.File) && entry.Text is not null && entry.Index is null or >= 0,
        LogsReplayed replayed => IsPlace(replayed.Hive) && replayed.Writes > 0,
        LogsReturned returned => IsPlace(returned.Hive) && returned.Writes > 0,
        EditionDropped or EditionReturned => ((ImageChange)change).Number > 0,
        EditionRenamed renamed => renamed.Number > 0 && !IsBad(renamed.NameBefore) && !IsBad(renamed.NameAfter)
            && !IsBad(renamed.DescriptionBefore) && !IsBad(renamed.DescriptionAfter),
        RowsChange rows => IsPlace(rows.Database) && rows.Rows is { } recorded && AreRows(recorded),
        _ => false,
    };

    private static bool IsBad(string? text) => text is null || text.Contains('\0', StringComparison.Ordinal);

    private static bool IsPlace(WindowsPath path) => !path.IsRoot && path.Names.All(IsName);

    private static bool IsName(string name)
    {
        try
        {
            UnixName.Encode(name);
            return name != ".";
        }
        catch (MoorfieldException)
        {
            return false;
        }
    }

    private static bool IsTime(FileTime time) => time.Nanoseconds <= MaxNanoseconds;

    private static bool IsContent(string? name, int? edition) =>
        name is not null && (edition is null ? Vault.IsHash(name) : Sha1Hash.Parse(name) is not null);

    private static bool IsKey(HiveChange change) => IsPlace(change.Hive) && !IsBad(change.Key) && change.Key.Split('\\').All(n => n.Length > 0);

    private static bool IsKey(RecordedKey key, int depth) =>
        depth < Hive.MaxDepth && key is not null && !IsBad(key.Name) && key.Name.Length > 0 && !key.Values.IsDefault && !key.Keys.IsDefault
        && key.Values.All(v => v is not null && IsValue(v)) && key.Keys.All(k => IsKey(k, depth + 1));

    private static bool IsValue(HiveValue? value) => value is null || !IsBad(value.Name);

    private static bool IsTree(RecordedTree recorded)
    {
        if (recorded.Entries.IsDefaultOrEmpty || !IsTime(recorded.ParentModified))
            return false;
        // Exactly: a file system that keeps case apart may have names that differ in nothing else.
        var folders = new HashSet<string>(StringComparer.Ordinal);
        var paths = new HashSet<string>(StringComparer.Ordinal);
        foreach (var entry in recorded.Entries)
        {
            if (entry.Path is null || !paths.Add(entry.Path) || (paths.Count == 1) != (entry.Path.Length == 0)
                || !Enum.IsDefined(entry.Kind) || entry.Size < 0 || !IsTime(entry.Modified) || !IsTime(entry.Accessed)
                || entry.GetType() != recorded.Entries[0].GetType())
                return false;
            // Each is in a folder that comes before it.
            if (entry.Path.Length > 0
                && (!folders.Contains(entry.Path.LastIndexOf('\\') is var i and >= 0 ? entry.Path[..i] : "") || !entry.Path.Split('\\').All(IsName)))
                return false;
            if (!(entry switch
            {
                RecordedImageEntry stored => IsRecord(stored.Record),
                RecordedDiskEntry disk => IsDiskEntry(disk),
                _ => IsVolumeEntry((RecordedVolumeEntry)entry),
            }))
                return false;
            if (entry.Kind == EntryKind.Folder)
                folders.Add(entry.Path);
        }
        return true;
    }

    private static bool IsVolumeEntry(RecordedVolumeEntry entry) =>
        entry.Mode <= 0xFFF && !entry.Attributes.Any(a => IsBad(a.Key)) && entry.Kind switch
        {
            EntryKind.File => entry.Blob is not null && Vault.IsHash(entry.Blob),
            EntryKind.Link => !IsBad(entry.LinkTarget) || entry.Attributes.ContainsKey(InaccessibleData.ReparseAttribute),
            EntryKind.Folder => true,
            _ => false,
        };

    private static bool IsDiskEntry(RecordedDiskEntry entry) =>
        entry.Kind is EntryKind.File or EntryKind.Folder or EntryKind.Link
        && (entry.ShortName is null || IsName(entry.ShortName))
        && new[] { entry.Facts.Security, entry.Facts.Reparse, entry.Facts.Extended, entry.Facts.ObjectId }.All(v => v is { Length: <= MaxFact })
        && entry.Streams.All(s => s.Stream.Name is not null)
        && entry.Streams.Select(s => s.Stream.Name).Distinct(StringComparer.OrdinalIgnoreCase).Count() == entry.Streams.Length
        && entry.Streams.All(s => s.Blob is not null && Vault.IsHash(s.Blob) && s.Stream.Length >= 0 && s.Stream.Name.Length <= byte.MaxValue
            && !IsBad(s.Stream.Name) && (s.Stream.Flags & ~NtfsStream.KnownFlags) == 0);

    private static bool IsRecord(byte[] record)
    {
        try
        {
            return ImageEntry.ContentsOf(record).Count() >= 0;
        }
        catch (Exception e) when (e is InvalidDataException or ArgumentException or IndexOutOfRangeException)
        {
            return false;
        }
    }

    private static bool AreRows(ImmutableArray<RecordedRow> rows) =>
        !rows.IsDefault && rows.All(r => r is not null && !IsBad(r.Table) && !r.Cells.IsDefaultOrEmpty && r.Cells.All(IsCell));

    private static bool IsCell(RecordedCell cell) => cell is not null && !IsBad(cell.Column) && cell.Type switch
    {
        "null" => true,
        "integer" => long.TryParse(cell.Value, CultureInfo.InvariantCulture, out _),
        "real" => double.TryParse(cell.Value, CultureInfo.InvariantCulture, out _),
        "text" => cell.Value is not null,
        "blob" => cell.Value is not null && System.Buffers.Text.Base64.IsValid(cell.Value),
        _ => false,
    };

    private static bool IsSound(ImageState image) =>
        image.HeaderBefore is { Length: WimHeader.Size } && image.HeaderAfter is { Length: WimHeader.Size } && image.LengthBefore >= WimHeader.Size
            && image.LengthAfter >= WimHeader.Size
        && !image.Dropped.IsDefault
            && image.Dropped.All(d => d is not null && Sha1Hash.Parse(d.Sha1 ?? "") is not null && d is { Offset: >= 0, StoredSize: >= 0, Size: >= 0 }
            && d.Offset <= long.MaxValue - d.StoredSize && (d.Kept is null || Vault.IsHash(d.Kept)));
}
