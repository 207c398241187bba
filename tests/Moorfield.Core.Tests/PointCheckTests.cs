using System.Collections.Immutable;
using Moorfield.Core.Disks;
using Moorfield.Core.Model;
using Moorfield.Core.Trees;
using Moorfield.Core.Vaults;
using Moorfield.Formats.Hives;
using Moorfield.Formats.Ntfs;
using Moorfield.Formats.Wim;

namespace Moorfield.Core.Tests;

/// <summary>Each thing that a restore point has to say, wrong by itself.</summary>
public sealed class PointCheckTests
{
    private const string Family = "Saltmarsh.Weather_s7m4rsh0w4ter", Bad = "a\0b", Machine = "5f0c3a1e-0000-4000-8000-000000000007";
    private static readonly string Hash = new('a', 64), Sha1 = new('b', 40);
    private static readonly FileTime Time = new(1, 999_999_999), BadTime = new(1, 1_000_000_000);
    private static readonly WindowsPath Place = WindowsPath.Of(@"Windows\Weather"), Root = WindowsPath.Root;
    private static readonly HiveValue Value = HiveValue.FromString("Berth", "seven"), BadValue = HiveValue.FromString(Bad, "seven");
    private static readonly RecordedKey Key = new("Weather", [Value], [new("Berths", [], [])]);
    private static readonly byte[] Header = new byte[WimHeader.Size];

    private static readonly RecordedVolumeEntry Top = new("", EntryKind.Folder, 0xFFF, 0, 0, 0, Time, Time, null, null,
        ImmutableSortedDictionary<string, byte[]>.Empty);

    private static readonly RecordedVolumeEntry Leaf = Top with { Path = "a", Kind = EntryKind.File, Blob = Hash };
    private static readonly RecordedVolumeEntry Link = Top with { Path = "l", Kind = EntryKind.Link, LinkTarget = "a" };

    private static readonly RecordedDiskEntry DiskTop =
        new("", EntryKind.Folder, 0, Time, Time, new NtfsMetadata(0, default, [], [], [], []), null, 1, []);

    private static readonly RecordedDiskEntry DiskLeaf = DiskTop with
    {
        Path = "a", Kind = EntryKind.File, ShortName = "A~1", Streams = [new(new NtfsStream("", 0, 0), Hash), new(new NtfsStream("x", 1, 0), Hash)],
    };

    private static readonly DroppedContent Dropped = new(Sha1, 0, 0, 0, 0);
    private static readonly ImageState Image = new(Header, WimHeader.Size, Header, WimHeader.Size, [Dropped, Dropped with { Kept = Hash }]);
    private static readonly StateEntry Entry = new(Place, EntryKind.File, 0, Time, Hash);
    private static readonly RecordedSystem OneSystem =
        new(null, "COUNTER-07", [Entry, Entry with { Content = null }], [new(Family, Place, Tree(Top))]);
    private static readonly RecordedState State = new("volume", true, [OneSystem, OneSystem with { Edition = 1 }]);
    private static readonly ReplacedFile File = new(Place, Hash, Hash, Time, Time), InEdition = new(Place, Sha1, Sha1, Time, Time, 1);
    private static readonly Intent Intent = new(IntentKind.Remove, 1, Family, ["S-1-5-21-7"], true);
    private static readonly EntryRemoved Listed = new(Family, Place, "<a/>", 0);
    private static readonly EditionRenamed Renamed = new(1, "a", "b", "c", "d");

    private static readonly RestorePoint Sound = new(1, RunKind.Remove, 1, default, "Weather goes", null,
        new TargetIdentity("/mnt/counter-07", "COUNTER-07", Machine, "", ""), [new(Family, "Weather"), new(Family, "Weather", 1)], [File, InEdition],
        [Taking(Tree(Top, Leaf, Link))], Image) { Disk = new DiskState(Hash, 0, 0), Intents = [Intent] };

    private static readonly RestorePoint Record = Sound with { Kind = RunKind.Record, State = State };

    private static RecordedTree Tree(params RecordedEntry[] entries) => new(Time, [.. entries]);

    private static TreeRemoved Taking(RecordedTree? tree) => new(Family, Place, tree);

    private static RecordedDiskEntry With(NtfsStream stream, string? blob = null) =>
        DiskLeaf with { Streams = [.. DiskLeaf.Streams, new(stream, blob ?? Hash)] };

    private static RecordedTree OnDisk(RecordedDiskEntry entry) => Tree(DiskTop, entry);

    private static RowsAdded Rows(string column, string type, string? value) =>
        new(Family, Place, [new("Package", null, [new(column, type, value)])]);

    private static RecordedKey Deep(int depth) => Enumerable.Range(1, depth - 1).Aggregate(new RecordedKey("k", [], []), (k, _) => new("k", [], [k]));

    private static readonly Dictionary<string, RestorePoint[]> Faults = new()
    {
        ["a number is not above 0"] = [Sound with { Number = 0 }, Sound with { Undoes = 0 }],
        ["it is of no kind that is known"] = [Sound with { Kind = (RunKind)99 }],
        ["it does not say what its target is"] =
        [
            Sound with { Title = null! }, Sound with { Title = Bad }, Sound with { Target = null! },
            Sound with { Target = Sound.Target with { Path = Bad } },
            Sound with { Target = Sound.Target with { Path = "relative" } }, Sound with { Target = Sound.Target with { MachineId = null! } },
            Sound with { Target = Sound.Target with { Computer = Bad } },
        ],
        ["a package has no name"] = [.. new ConcernedPackage?[]
                { null, new(null!, "a"), new(Bad, "a"), new("a", null!), new("a", Bad), new("a", "a", 0) }
            .Select(p => Sound with { Packages = [.. Sound.Packages, p!] })],
        ["it does not say what it is for"] = [.. new Intent?[] { null, Intent with { Kind = (IntentKind)99 }, Intent with { Subject = Bad },
                Intent with { Edition = 0 }, Intent with { Sids = ["S-1-5-18", null!] } }.Select(i => Sound with { Intents = [Intent, i!] })],
        ["is not described as one of a system"] = [.. new[] { File with { Path = Root }, File with { Path = WindowsPath.Of("a\\\uF72E\uF72E") },
                File with { Before = Sha1 }, File with { Before = null! }, File with { After = Sha1 }, File with { Accessed = BadTime },
                File with { Modified = BadTime }, InEdition with { Edition = 0 }, InEdition with { Before = Hash }, InEdition with { After = Hash } }
            .Select(f => Sound with { Files = [File, f] })],
        ["it does not say what the disk was"] = [.. new[] { new DiskState(null!, 1, 1), new(Sha1, 1, 1), new(Hash, -1, 1), new(Hash, 1, -1) }
            .Select(d => Sound with { Disk = d })],
        ["it does not say what the image was"] = [.. new[] { Image with { HeaderBefore = null! }, Image with { HeaderBefore = [1] },
                Image with { HeaderAfter = [1] }, Image with { LengthBefore = WimHeader.Size - 1 }, Image with { LengthAfter = WimHeader.Size - 1 },
                Image with { Dropped = default } }
            .Concat(new DroppedContent?[] { null, Dropped with { Sha1 = null! }, Dropped with { Sha1 = Hash }, Dropped with { Offset = -1 },
                Dropped with { StoredSize = -1 }, Dropped with { Size = -1 }, Dropped with { Offset = long.MaxValue, StoredSize = 1 },
                Dropped with { Kept = Sha1 } }.Select(d => Image with { Dropped = [Dropped, d!] })).Select(i => Sound with { Image = i })],
        ["it does not say what the state was"] = [Record with { State = null }, Sound with { State = State }, .. new[]
            { State with { Kind = "floppy" }, State with { Systems = [] } }
            .Concat(new[] { OneSystem with { Edition = 0 }, OneSystem with { Name = Bad }, OneSystem with { Trees = [new(Bad, Place, Tree(Top))] },
                OneSystem with { Trees = [new(Family, Root, Tree(Top))] }, OneSystem with { Trees = [new(Family, Place, Tree())] } }
                .Concat(new[] { Entry with { Path = Root }, Entry with { Size = -1 }, Entry with { Modified = BadTime },
                    Entry with { Content = Sha1 } }
                    .Select(e => OneSystem with { Entries = [Entry, e] })).Select(s => State with { Systems = [OneSystem, s] }))
            .Select(s => Record with { State = s })],
        ["a change is not one that can be made"] = [.. new Change[]
            {
                new KeyRemoved(Bad, Place, "a", Key), new KeyRemoved(Family, Root, "a", Key), new KeyRemoved(Family, Place, Bad, Key),
                new KeyRemoved(Family, Place, "", Key), new KeyRemoved(Family, Place, @"a\\b", Key),
                new KeyRemoved(Family, Place, "a", Key with { Name = "" }),
                new KeyAdded(Family, Place, Bad, Key), new KeyAdded(Family, Place, "a", Key with { Name = Bad }),
                new KeyAdded(Family, Place, "a", Key with { Values = default }), new KeyAdded(Family, Place, "a", Key with { Keys = default }),
                new KeyAdded(Family, Place, "a", Key with { Values = [null!] }),
                new KeyAdded(Family, Place, "a", Key with { Values = [Value, BadValue] }),
                new KeyAdded(Family, Place, "a", Key with { Keys = [Key, null!] }), new KeyAdded(Family, Place, "a", Deep(513)),
                new ValueChanged(Family, Root, "a", "b", Value, Value), new ValueChanged(Family, Place, "a", Bad, Value, Value),
                new ValueChanged(Family, Place, "a", "b", BadValue, Value), new ValueChanged(Family, Place, "a", "b", Value, BadValue),
                new EntryRemoved(Family, Root, "a", 0), Listed with { Text = null! }, Listed with { Index = -1 },
                new LogsReplayed(Root, 1), new LogsReplayed(Place, 0), new LogsReturned(Root, 1), new LogsReturned(Place, 0),
                new EditionDropped(0, "a"), new EditionReturned(0, "a"), Renamed with { Number = 0 }, Renamed with { NameBefore = Bad },
                Renamed with { NameAfter = Bad }, Renamed with { DescriptionBefore = Bad }, Renamed with { DescriptionAfter = Bad },
                new RowsAdded(Family, Root, []), new RowsAdded(Family, Place, null),
                new RowsAdded(Family, Place, default(ImmutableArray<RecordedRow>)),
                new RowsAdded(Family, Place, [null!]), new RowsAdded(Family, Place, [new(Bad, null, [new("a", "null", null)])]),
                new RowsAdded(Family, Place, [new("Package", null, [])]), new RowsAdded(Family, Place, [new("Package", null, [null!])]),
                Rows(Bad, "null", null), Rows("a", "integer", "x"), Rows("a", "real", "x"), Rows("a", "text", null), Rows("a", "blob", null),
                Rows("a", "blob", "?"), Rows("a", "sql", "1"), Taking(null), new TreeRemoved(Family, Root, Tree(Top)),
            }
            .Concat(new[]
            {
                Tree(), new RecordedTree(Time, default), Tree(Top) with { ParentModified = BadTime }, Tree(Leaf), Tree(Top, Top),
                Tree(Top, Leaf, Leaf),
                Tree(Top, Leaf with { Path = null! }), Tree(Top, Leaf with { Path = @"b\a" }), Tree(Top, Leaf, Link with { Path = @"a\b" }),
                Tree(Top, Leaf with { Path = ".." }), Tree(Top, Leaf with { Path = "." }), Tree(Top, Leaf with { Path = @"\a" }),
                Tree(Top, Leaf with { Kind = (EntryKind)99 }), Tree(Top, Leaf with { Kind = EntryKind.Other }), Tree(Top, Leaf with { Size = -1 }),
                Tree(Top, Leaf with { Modified = BadTime }), Tree(Top, Leaf with { Accessed = BadTime }), Tree(Top, DiskLeaf),
                Tree(Top, Leaf with { Mode = 0x1000 }), Tree(Top, Leaf with { Blob = null }), Tree(Top, Leaf with { Blob = Sha1 }),
                Tree(Top, Leaf with { Attributes = Leaf.Attributes.Add(Bad, []) }), Tree(Top, Link with { LinkTarget = null }),
                Tree(Top, Link with { LinkTarget = Bad }), Tree(new RecordedImageEntry("", EntryKind.Folder, 0, Time, Time, [1, 2, 3], [])),
                OnDisk(DiskLeaf with { Kind = EntryKind.Other }), OnDisk(DiskLeaf with { ShortName = ".." }),
                OnDisk(DiskLeaf with { ShortName = @"a\b" }),
                OnDisk(DiskLeaf with { Facts = DiskLeaf.Facts with { Security = null! } }),
                OnDisk(DiskLeaf with { Facts = DiskLeaf.Facts with { Reparse = new byte[(64 << 10) + 1] } }),
                OnDisk(DiskLeaf with { Facts = DiskLeaf.Facts with { Extended = null! } }),
                OnDisk(DiskLeaf with { Facts = DiskLeaf.Facts with { ObjectId = null! } }),
                OnDisk(With(new NtfsStream("X", 0, 0))), OnDisk(With(new NtfsStream(null!, 0, 0))), OnDisk(With(new NtfsStream("y", -1, 0))),
                OnDisk(With(new NtfsStream(new string('y', 256), 0, 0))), OnDisk(With(new NtfsStream(Bad, 0, 0))),
                OnDisk(With(new NtfsStream("y", 0, 2))), OnDisk(With(new NtfsStream("y", 0, 0), Sha1)),
            }.Select(Taking)).Select(c => Sound with { Changes = [c] }),
            .. new Change[] { new KeyAdded(Family, Place, "a", Key) { Edition = 0 } }.Select(c => Sound with { Changes = [c] })],
    };

    public static TheoryData<string, int> Cases() => [.. Faults.SelectMany(f => f.Value.Select((_, i) => (f.Key, i)))];

    [Theory]
    [MemberData(nameof(Cases))]
    public void What_a_restore_point_says_wrongly_is_told(string fault, int number) =>
        PointCheck.Fault(Faults[fault][number]).ShouldNotBeNull().ShouldContain(fault);

    [Fact]
    public void A_sound_restore_point_has_no_fault_up_to_its_limits()
    {
        PointCheck.Fault(Sound).ShouldBeNull();
        PointCheck.Fault(Record).ShouldBeNull();
        PointCheck.Fault(Record with { State = State with { Kind = "disk" } }).ShouldBeNull();
        PointCheck.Fault(Sound with { Undoes = null, Image = null, Disk = null, Intents = [Intent with { Edition = null }] }).ShouldBeNull();
        Change[] sound =
        [
            new KeyRemoved(Family, Place, @"a\b", Key) { Edition = 1 }, new KeyRemoved(Family, Place, "a"),
            new KeyAdded(Family, Place, "a", Deep(512)),
            new KeyAdded(Family, Place, "a"), new ValueChanged(Family, Place, "a", "", null, Value), Listed, Listed with { Index = null },
            new LogsReplayed(Place, 1), new LogsReturned(Place, 1), new EditionDropped(1, "a"), Renamed, new RowsAdded(Family, Place, []),
            Rows("a", "null", null), Rows("a", "integer", "-5"), Rows("a", "real", "1.5"), Rows("a", "text", ""), Rows("a", "blob", ""),
            Taking(OnDisk(DiskLeaf)), Taking(OnDisk(With(new NtfsStream(new string('y', 255), 0, NtfsStream.KnownFlags)))),
            Taking(OnDisk(DiskLeaf with { Facts = DiskLeaf.Facts with { Extended = new byte[64 << 10] } })),
            Taking(Tree(Top, Top with { Path = "b" }, Leaf with { Path = @"b\a" }, Leaf with { Path = @"b\A" })),
            Taking(Tree(Top, Link with { LinkTarget = null, Attributes = Link.Attributes.Add(InaccessibleData.ReparseAttribute, [1]) })),
        ];
        foreach (var change in sound)
            PointCheck.Fault(Sound with { Changes = [change] }).ShouldBeNull(change.ToString());
    }

    [Fact]
    public void An_encrypted_part_says_all_that_it_has_to()
    {
        var seal = new StoredSeal(Guid.NewGuid(), [new("volume", "id", [1])], 0, [Hash], [1]);
        PointCheck.IsSound(seal).ShouldBeTrue();
        StoredSeal[] spoilt =
        [
            seal with { Wraps = default }, seal with { Contents = default }, seal with { Body = null! }, seal with { Changes = -1 },
            seal with { Wraps = [null!] }, seal with { Wraps = [new(null!, "id", [1])] }, seal with { Wraps = [new("volume", null!, [1])] },
            seal with { Wraps = [new("volume", "id", null!)] }, seal with { Contents = [Hash, null!] }, seal with { Contents = [Sha1] },
        ];
        foreach (var one in spoilt)
            PointCheck.IsSound(one).ShouldBeFalse();
    }
}
