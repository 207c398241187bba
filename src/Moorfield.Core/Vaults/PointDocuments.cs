using System.Text.Json;
using Moorfield.Core.Disks;
using Moorfield.Core.Storage;
using Moorfield.Formats.Ntfs;

namespace Moorfield.Core.Vaults;

/// <summary>
/// Turns restore points into the documents of a vault, and back. What is read is untrusted: anything that is missing where something must be
/// throws one of the exceptions that <see cref="Vault"/> takes for damage.
/// </summary>
internal static class PointDocuments
{
    internal const string Schema = "moorfield.restore-point/1";
    internal const string SealedSchema = "moorfield.restore-point/2";
    internal const string HeadSchema = "moorfield.restore-point-head/1";

    // ---- whole points

    internal static StoredPoint Of(RestorePoint point) => new(
        Schema, point.Number, point.Kind.ToString(), point.Undoes, point.Created, point.Title, point.Note, Of(point.Target),
        Each(point.Packages, Of), Each(point.Files, Of), Each(point.Changes, Of), point.Image is { } image ? Of(image) : null,
        point.Intents.IsEmpty ? null : Each(point.Intents, Of),
        point.Disk is { } disk ? new StoredDisk(disk.Journal, disk.Blocks, disk.Start) : null, point.State is { } state ? Of(state) : null);

    internal static RestorePoint Read(StoredPoint point) => new(
        point.Number, One<RunKind>(point.Kind), point.Undoes, point.Created, point.Title, point.Note, Read(point.Target),
        Each(point.Packages, Read), Each(point.Files, Read), Each(point.Changes, Read), point.Image is { } image ? Read(image) : null)
    {
        Intents = point.Intents is { } intents ? Each(intents, Read) : [],
        Disk = point.Disk is { } disk ? new DiskState(disk.Journal, disk.Blocks, disk.Start) : null,
        State = point.State is { } state ? Read(state) : null,
    };

    internal static StoredHead Of(PointHead head, long documentBytes) => new(HeadSchema, documentBytes, new StoredHeadPoint(
        head.Number, head.Kind.ToString(), head.Undoes, head.Created, head.Title, head.Note, Of(head.Target), Each(head.Packages, Of), head.Changes,
        head.IsImage, Each(head.Intents, Of), head.IsSealed));

    internal static PointHead Read(StoredHeadPoint head) => new(
        head.Number, One<RunKind>(head.Kind), head.Undoes, head.Created, head.Title, head.Note, Read(head.Target), Each(head.Packages, Read),
        head.Changes, head.IsImage, Each(head.Intents, Read), head.IsSealed);

    /// <summary>The head of an encrypted restore point, which lies in clear.</summary>
    internal static PointHead ReadHead(StoredPoint point, StoredSeal seal) => Read(point).Head with { Changes = seal.Changes, IsSealed = true };

    internal static StoredLine Of(JournalLine line) => new(line.At, line.Step, line.What, line.Message, line.Family, line.Edition);

    internal static JournalLine Read(StoredLine line) => new(line.At, line.Step, line.What, line.Message, line.Family, line.Edition);

    internal static byte[] Write(RunMarker marker) => JsonSerializer.SerializeToUtf8Bytes(
        new StoredMarker(marker.Point, marker.Vault, Of(marker.RootModified), Of(marker.RootAccessed), marker.Start, marker.Blocks,
            marker.Disk is { } disk ? Of(disk) : null, marker.Path.Length == 0 ? null : marker.Path), VaultJson.Default.StoredMarker);

    /// <exception cref="JsonException">It is no marker.</exception>
    internal static RunMarker? ReadMarker(byte[] content) =>
        JsonSerializer.Deserialize(content, VaultJson.Default.StoredMarker) is { Vault: not null } marker
        ? new RunMarker(marker.Point, marker.Vault, Read(marker.RootModified), Read(marker.RootAccessed))
        {
            Start = marker.Start, Blocks = marker.Blocks, Disk = marker.Disk is { } disk ? Read(disk) : null, Path = marker.Path ?? "",
        }
        : null;

    // ---- parts

    private static StoredTime Of(FileTime time) => new(time.Seconds, time.Nanoseconds);

    private static FileTime Read(StoredTime time) => new(time.Seconds, time.Nanoseconds);

    private static StoredTarget Of(TargetIdentity target) => new(
        target.Path, target.Computer, target.MachineId, target.Product, target.Build,
        target.Place is { } place ? Of(place) : null, target.Disk is { } disk ? Of(disk) : null);

    private static TargetIdentity Read(StoredTarget? target) => target is null ? throw new FormatException("its target is missing") : new(
        target.Path, target.Computer, target.MachineId, target.Product, target.Build, target.Place is { } place ? Read(place) : null)
    {
        Disk = target.Disk is { } disk ? Read(disk) : null,
    };

    private static StoredPlace Of(TargetLocation place) => new(place.FileSystem, place.Inode);

    private static TargetLocation Read(StoredPlace place) => new(place.FileSystem, place.Inode);

    private static StoredDiskIdentity Of(DiskIdentity disk) => new(
        disk.File is { } file ? Of(file) : null,
        disk.Device is { } d ? new StoredDevice(d.Hardware, d.Table, d.Start, d.Bytes, d.Boot, d.Sequence) : null,
        disk.Others.IsEmpty ? null : [.. disk.Others.Select(Of)]);

    private static DiskIdentity Read(StoredDiskIdentity disk) => new(
        disk.File is { } file ? Read(file) : null,
        disk.Device is { } d ? new DeviceIdentity(d.Hardware, d.Table, d.Start, d.Bytes, d.Boot, d.Sequence) : null)
    {
        Others = [.. disk.Others?.Select(Read) ?? []],
    };

    private static StoredPackage Of(ConcernedPackage package) => new(package.Family, package.DisplayName, package.Edition);

    private static ConcernedPackage Read(StoredPackage package) => new(package.Family, package.DisplayName, package.Edition);

    private static StoredFile Of(ReplacedFile file) =>
        new(file.Path.ToString(), file.Before, file.After, Of(file.Accessed), Of(file.Modified), file.Edition);

    private static ReplacedFile Read(StoredFile file) =>
        new(Place(file.Path), file.Before, file.After, Read(file.Accessed), Read(file.Modified), file.Edition);

    private static StoredImage Of(ImageState image) => new(
        image.HeaderBefore, image.LengthBefore, image.HeaderAfter, image.LengthAfter,
        Each(image.Dropped, d => new StoredDropped(d.Sha1, d.Offset, d.StoredSize, d.Size, d.Flags, d.Kept)));

    private static ImageState Read(StoredImage image) => new(
        image.HeaderBefore, image.LengthBefore, image.HeaderAfter, image.LengthAfter,
        Each(image.Dropped, d => new DroppedContent(d.Sha1, d.Offset, d.StoredSize, d.Size, d.Flags, d.Kept)));

    private static StoredIntent Of(Intent intent) =>
        new(intent.Kind.ToString(), intent.Edition, intent.Subject, intent.Sids, intent.Newcomers, intent.KeepsData);

    private static Intent Read(StoredIntent intent) =>
        new(One<IntentKind>(intent.Kind), intent.Edition, intent.Subject, Each(intent.Sids, s => s), intent.Newcomers, intent.KeepsData);

    private static StoredState Of(RecordedState state) => new(state.Kind, state.WithFiles, Each(state.Systems, s => new StoredSystem(
        s.Edition, s.Name, Each(s.Entries, e => new StoredStateEntry(e.Path.ToString(), e.Kind.ToString(), e.Size, Of(e.Modified), e.Content)),
        Each(s.Trees, t => new StoredStateTree(t.Family, t.Path.ToString(), Of(t.Tree)!)))));

    private static RecordedState Read(StoredState state) => new(state.Kind, state.WithFiles, Each(state.Systems, s => new RecordedSystem(
        s.Edition, s.Name, Each(s.Entries, e => new StateEntry(Place(e.Path), One<EntryKind>(e.Kind), e.Size, Read(e.Modified), e.Content)),
        Each(s.Trees, t => new StateTree(t.Family, Place(t.Path), Read(t.Tree) ?? throw new FormatException("a tree is missing"))))));

    // ---- changes

    private static StoredChange Of(Change change)
    {
        StoredChange stored = change switch
        {
            KeyRemoved c => new StoredKeyRemoved(c.Family, c.Hive.ToString(), c.Key, Of(c.Recorded)),
            KeyAdded c => new StoredKeyAdded(c.Family, c.Hive.ToString(), c.Key, Of(c.Recorded)),
            ValueChanged c => new StoredValueChanged(c.Family, c.Hive.ToString(), c.Key, c.Name, Of(c.Before), Of(c.After)),
            TreeRemoved c => new StoredTreeRemoved(c.Family, c.Path.ToString(), Of(c.Recorded)),
            TreeAdded c => new StoredTreeAdded(c.Family, c.Path.ToString(), Of(c.Recorded)),
            EntryRemoved c => new StoredEntryRemoved(c.Family, c.File.ToString(), c.Text, c.Index, c.Gap),
            EntryAdded c => new StoredEntryAdded(c.Family, c.File.ToString(), c.Text, c.Index, c.Gap),
            RowsRemoved c => new StoredRowsRemoved(c.Family, c.FullName?.ToString(), c.Sid, Of(c.Rows), Database(c)),
            RowsAdded c => new StoredRowsAdded(c.Family, Of(c.Rows), Database(c)),
            LogsReplayed c => new StoredLogsReplayed(c.Hive.ToString(), c.Writes),
            LogsReturned c => new StoredLogsReturned(c.Hive.ToString(), c.Writes),
            EditionDropped c => new StoredEditionDropped(c.Number, c.Name),
            EditionReturned c => new StoredEditionReturned(c.Number, c.Name),
            EditionRenamed c => new StoredEditionRenamed(c.Number, c.NameBefore, c.NameAfter, c.DescriptionBefore, c.DescriptionAfter),
            _ => throw new InvalidOperationException($"A vault has no document for a {change.GetType().Name}."),
        };
        return stored with { Edition = change.Edition };
    }

    private static string? Database(RowsChange change) => change.Database == PackageRoots.Usual.Database ? null : change.Database.ToString();

    private static WindowsPath Database(string? stored) => stored is null ? PackageRoots.Usual.Database : Place(stored);

    private static Change Read(StoredChange stored)
    {
        Change change = stored switch
        {
            StoredKeyRemoved c => new KeyRemoved(c.Family, Place(c.Hive), c.Key, Read(c.Image)),
            StoredKeyAdded c => new KeyAdded(c.Family, Place(c.Hive), c.Key, Read(c.Image)),
            StoredValueChanged c => new ValueChanged(c.Family, Place(c.Hive), c.Key, c.Name, Read(c.Before), Read(c.After)),
            StoredTreeRemoved c => new TreeRemoved(c.Family, Place(c.Path), Read(c.Image)),
            StoredTreeAdded c => new TreeAdded(c.Family, Place(c.Path), Read(c.Image)),
            StoredEntryRemoved c => new EntryRemoved(c.Family, Place(c.File), c.Text, c.Index, c.Gap),
            StoredEntryAdded c => new EntryAdded(c.Family, Place(c.File), c.Text, c.Index, c.Gap),
            StoredRowsRemoved c => new RowsRemoved(
                c.Family, Database(c.Database), c.FullName is null ? null : FullName(c.FullName), c.Sid, Read(c.Rows)),
            StoredRowsAdded c => new RowsAdded(c.Family, Database(c.Database), Read(c.Rows)),
            StoredLogsReplayed c => new LogsReplayed(Place(c.Hive), c.Writes),
            StoredLogsReturned c => new LogsReturned(Place(c.Hive), c.Writes),
            StoredEditionDropped c => new EditionDropped(c.Number, c.Name),
            StoredEditionReturned c => new EditionReturned(c.Number, c.Name),
            StoredEditionRenamed c => new EditionRenamed(c.Number, c.NameBefore, c.NameAfter, c.DescriptionBefore, c.DescriptionAfter),
            _ => throw new FormatException("it holds a change of no kind that is known"),
        };
        return change with { Edition = stored.Edition };
    }

    private static StoredValue? Of(HiveValue? value) => value is null ? null : new StoredValue(value.Name, (StoredValueType)value.Type, value.Data);

    private static HiveValue? Read(StoredValue? value) => value is null ? null : new HiveValue(value.Name, (HiveValueType)value.Type, value.Data);

    private static StoredKey? Of(RecordedKey? key) =>
        key is null ? null : new StoredKey(key.Name, Each(key.Values, v => Of(v)!), Each(key.Keys, k => Of(k)!));

    private static RecordedKey? Read(StoredKey? key) =>
        key is null ? null : new RecordedKey(key.Name, Each(key.Values, v => Read(v)!), Each(key.Keys, k => Read(k)!));

    private static ImmutableArray<StoredRow>? Of(ImmutableArray<RecordedRow>? rows) => rows is not { } all ? null
        : Each(all, r => new StoredRow(r.Table, r.RowId, Each(r.Cells, c => new StoredCell(c.Column, c.Type, c.Value))));

    private static ImmutableArray<RecordedRow>? Read(ImmutableArray<StoredRow>? rows) => rows is not { } all ? null
        : Each(all, r => new RecordedRow(r.Table, r.RowId, Each(r.Cells, c => new RecordedCell(c.Column, c.Type, c.Value))));

    private static StoredTree? Of(RecordedTree? tree) => tree is null ? null : new StoredTree(Of(tree.ParentModified), Each(tree.Entries, Of));

    private static RecordedTree? Read(StoredTree? tree) =>
    tree is null ? null : new RecordedTree(Read(tree.ParentModified), Each(tree.Entries, Read));

    private static StoredEntry Of(RecordedEntry entry) => entry switch
    {
        RecordedImageEntry image => Plain(image) with { Record = image.Record, Security = image.Security },
        RecordedDiskEntry disk => Plain(disk) with
        {
            Ntfs = new StoredNtfs(
                disk.Facts.Attributes, [disk.Facts.Times.Created, disk.Facts.Times.Written, disk.Facts.Times.Changed, disk.Facts.Times.Accessed],
                disk.Facts.Security, disk.Facts.Reparse, disk.Facts.Extended, disk.Facts.ObjectId, disk.ShortName, disk.File,
                Each(disk.Streams, s => new StoredStream(s.Stream.Name, s.Stream.Length, s.Stream.Flags, s.Blob))),
        },
        _ => Of((RecordedVolumeEntry)entry),
    };

    private static StoredEntry Plain(RecordedEntry entry) => new(
        entry.Path, entry.Kind.ToString(), 0, 0, 0, entry.Size, Of(entry.Modified), Of(entry.Accessed), null, null,
        ImmutableSortedDictionary<string, byte[]>.Empty);

    private static StoredEntry Of(RecordedVolumeEntry entry) => new(
        entry.Path, entry.Kind.ToString(), entry.Mode, entry.Uid, entry.Gid, entry.Size, Of(entry.Modified), Of(entry.Accessed), entry.Blob,
        entry.LinkTarget, entry.Attributes);

    private static RecordedEntry Read(StoredEntry entry) => entry.Ntfs is { } ntfs
        ? new RecordedDiskEntry(
            entry.Path, One<EntryKind>(entry.Kind), entry.Size, Read(entry.Modified), Read(entry.Accessed),
            new NtfsMetadata(
                ntfs.Attributes,
                ntfs.Times is { IsDefault: false, Length: 4 } times ? new NtfsTimes(times[0], times[1], times[2], times[3])
                    : throw new FormatException("an entry of a disk has no times"),
                ntfs.Security, ntfs.Reparse, ntfs.Extended, ntfs.ObjectId),
            ntfs.ShortName, ntfs.File, Each(ntfs.Streams, s => new RecordedStream(new NtfsStream(s.Name, s.Length, s.Flags), s.Blob)))
        : entry.Record is { } record
        ? new RecordedImageEntry(
            entry.Path, One<EntryKind>(entry.Kind), entry.Size, Read(entry.Modified), Read(entry.Accessed), record,
            entry.Security ?? throw new FormatException("an entry of an image has no security descriptor"))
        : new RecordedVolumeEntry(
            entry.Path, One<EntryKind>(entry.Kind), entry.Mode, entry.Uid, entry.Gid, entry.Size, Read(entry.Modified), Read(entry.Accessed),
            entry.Blob,
            entry.LinkTarget, entry.Attributes is not null && entry.Attributes.Values.All(v => v is not null) ? entry.Attributes
            : throw new FormatException("an attribute is empty"));

    // ---- helps

    private static WindowsPath Place(string? text) =>
        WindowsPath.Parse(text ?? throw new FormatException("a path is missing"))
            ?? throw new FormatException($"'{text}' is not a path inside a Windows volume");

    private static PackageFullName FullName(string text) =>
        PackageFullName.TryParse(text, out var fullName) ? fullName : throw new FormatException($"'{text}' is not a package full name");

    private static ImmutableArray<TTo> Each<TFrom, TTo>(ImmutableArray<TFrom> items, Func<TFrom, TTo> make)
    {
        if (items.IsDefault)
            throw new FormatException("a list is missing");
        var made = ImmutableArray.CreateBuilder<TTo>(items.Length);
        foreach (var item in items)
            made.Add(make(item ?? throw new FormatException("a list has nothing where something belongs")));
        return made.MoveToImmutable();
    }

    private static T One<T>(string text) where T : struct, Enum =>
        Enum.TryParse<T>(text, ignoreCase: true, out var value) && Enum.IsDefined(value) ? value
            : throw new FormatException($"'{text}' is not known");
}
