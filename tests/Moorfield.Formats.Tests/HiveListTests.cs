using System.Buffers.Binary;
using System.Text;
using Moorfield.Formats.Hives;
using Moorfield.Tests;

namespace Moorfield.Formats.Tests;

/// <summary>Hives that keep their subkeys in lists of offsets alone, as Windows writes many keys in version 1.3.</summary>
public sealed class HiveListTests : IDisposable
{
    private const int Start = 4096, Keys = 1600;
    private readonly TemporaryFolder _folder = new();

    private static string Name(int number) => number % 400 == 7 ? $"Fähre {number} \u8239" : Plain(number);

    private static string Plain(int number) => $"{{{number:D5}}}";

    private byte[] Make(byte[]? from, Action<Hive> change)
    {
        _folder.Write("making", from ?? MinimalHive.Create("ROOT", DateTimeOffset.UnixEpoch));
        using var file = File.OpenHandle(_folder["making"]);
        using var hive = Hive.OpenWrite(file);
        change(hive);
        return hive.ToArray();
    }

    private byte[] Filled(Func<int, string> name) => Make(null, hive =>
    {
        var many = hive.Create(@"Many\Classes");
        for (int i = 0; i < Keys; i++)
            many.Add(name(i)).Set(HiveValue.FromString("Number", $"{i}"));
        hive.Create(@"Few\One");
    });

    private List<(string Name, string? Number)> Read(byte[] content)
    {
        _folder.Write("reading", content);
        using var file = File.OpenHandle(_folder["reading"]);
        using var hive = Hive.OpenRead(file);
        return [.. hive.Find(@"Many\Classes")!.Value.Children().Select(k => (k.Name, k.Value("Number")?.AsString()))];
    }

    /// <summary>Where each cell in use begins, its sign and its content.</summary>
    private static IEnumerable<(int Place, string Sign)> Cells(byte[] hive)
    {
        int end = Start + BinaryPrimitives.ReadInt32LittleEndian(hive.AsSpan(40));
        for (int bin = Start; bin < end; bin += BinaryPrimitives.ReadInt32LittleEndian(hive.AsSpan(bin + 8)))
        {
            int next = bin + BinaryPrimitives.ReadInt32LittleEndian(hive.AsSpan(bin + 8));
            for (int cell = bin + 32; cell < next;)
            {
                int length = BinaryPrimitives.ReadInt32LittleEndian(hive.AsSpan(cell));
                if (length < 0)
                    yield return (cell, Encoding.Latin1.GetString(hive, cell + 4, 2));
                cell += Math.Abs(length);
            }
        }
    }

    private static List<(uint Key, uint Hint)> Entries(byte[] hive, int cell) =>
        [.. Enumerable.Range(0, BinaryPrimitives.ReadUInt16LittleEndian(hive.AsSpan(cell + 6))).Select(i => (
            BinaryPrimitives.ReadUInt32LittleEndian(hive.AsSpan(cell + 8 + (i * 8))),
            BinaryPrimitives.ReadUInt32LittleEndian(hive.AsSpan(cell + 12 + (i * 8)))))];

    private static Dictionary<uint, uint> Hints(byte[] hive) => Cells(hive).Where(c => c.Sign is "lf" or "lh")
        .SelectMany(c => Entries(hive, c.Place)).ToDictionary(e => e.Key, e => e.Hint);

    /// <summary>The same hive with lists of offsets alone.</summary>
    private static byte[] Plain(byte[] hive, int version)
    {
        hive = [.. hive];
        BinaryPrimitives.WriteInt32LittleEndian(hive.AsSpan(24), version);
        BinaryPrimitives.WriteUInt32LittleEndian(hive.AsSpan(508), HiveHeader.ChecksumOf(hive));
        foreach (var (cell, _) in Cells(hive).Where(c => c.Sign is "lf" or "lh").ToList())
        {
            var entries = Entries(hive, cell);
            "li"u8.CopyTo(hive.AsSpan(cell + 4));
            for (int i = 0; i < entries.Count; i++)
                BinaryPrimitives.WriteUInt32LittleEndian(hive.AsSpan(cell + 8 + (i * 4)), entries[i].Key);
        }
        return hive;
    }

    [Theory]
    [InlineData(5, "lh")]
    [InlineData(3, "lf")]
    public void Keys_are_deleted_from_lists_that_do_not_name_them(int version, string sign)
    {
        byte[] filled = Filled(Name);
        byte[] plain = Plain(filled, version);
        Cells(plain).ShouldNotContain(c => c.Sign == "lh" || c.Sign == "lf");
        Read(plain).Count.ShouldBe(Keys);

        bool Goes(int i) => i is < 700 or 1599 || i % 3 == 0;
        byte[] changed = Make(plain, hive =>
        {
            var many = hive.Find(@"Many\Classes")!.Value;
            foreach (int i in Enumerable.Range(0, Keys).Where(Goes))
                many.Child(Name(i))!.Value.Delete();
        });
        var left = Enumerable.Range(0, Keys).Where(i => !Goes(i)).Select(i => (Name(i), (string?)$"{i}")).ToList();
        Read(changed).ShouldBe(left, ignoreOrder: true);
        Tool.Read("reglookup", "-p", "/Many/Classes", _folder.Write("changed", changed)).Split('\n')
            .Count(l => l.Contains("/Number,", StringComparison.Ordinal))
            .ShouldBe(left.Count);
        // No leaf is left empty, and the hive is one that can be written again.
        foreach (var (cell, kind) in Cells(changed).Where(c => c.Sign is "lf" or "lh" or "li"))
        {
            kind.ShouldBe(sign);
            Entries(changed, cell).Count.ShouldBeInRange(1, 511);
        }
        Read(Make(changed, hive => hive.Find(@"Many\Classes")!.Value.Add("new"))).Count.ShouldBe(left.Count + 1);
    }

    [Fact]
    public void The_new_lists_are_those_that_libhivex_itself_makes()
    {
        // It hashes bytes of UTF-8, and Windows letters: they are the same in ASCII.
        byte[] filled = Filled(Plain);
        byte[] rebuilt = Make(Plain(filled, 5), _ => { });
        var (expected, found) = (Hints(filled), Hints(rebuilt));
        expected.Count.ShouldBeGreaterThan(Keys);
        found.OrderBy(f => f.Key).ShouldBe(expected.OrderBy(e => e.Key));
        Read(rebuilt).ShouldBe(Read(filled));
    }

    [Fact]
    public void A_list_without_a_name_says_the_first_letters_of_its_keys_in_version_1_3()
    {
        byte[] rebuilt = Make(Plain(Filled(Name), 3), _ => { });
        foreach (var (key, hint) in Hints(rebuilt))
        {
            int cell = (int)key + Start + 4;
            bool isBytes = (rebuilt[cell + 2] & 0x20) != 0;
            int length = BinaryPrimitives.ReadUInt16LittleEndian(rebuilt.AsSpan(cell + 72));
            byte[] letters = isBytes ? rebuilt[(cell + 76)..(cell + 76 + Math.Min(4, length))]
                : [.. Enumerable.Range(0, Math.Min(4, length / 2)).Select(i => rebuilt[cell + 76 + (i * 2)])];
            hint.ShouldBe(BinaryPrimitives.ReadUInt32LittleEndian([.. letters, .. new byte[4 - letters.Length]]));
        }
    }

    /// <summary>21,000 hashes and 4,000 first letters of keys, as Windows wrote them.</summary>
    [Theory]
    [InlineData("dfwinreg/SYSTEM", "lh", 20_000)]
    [InlineData("dfwinreg/UsrClass.dat", "lf", 4_000)]
    public void The_new_lists_are_those_that_Windows_writes(string name, string sign, int least)
    {
        byte[] hive = File.ReadAllBytes(Genuine.Path(name));
        int count = 0;
        foreach (var (cell, _) in Cells(hive).Where(c => c.Sign == sign))
        {
            var entries = Entries(hive, cell);
            byte[] leaf = HiveLists.Leaf(hive, [.. entries.Select(e => e.Key)], hasHashes: sign == "lh");
            hive.AsSpan(cell + 4, leaf.Length).SequenceEqual(leaf).ShouldBeTrue($"the list at {cell}");
            count += entries.Count;
        }
        count.ShouldBeGreaterThan(least);
    }

    public void Dispose() => _folder.Dispose();
}
