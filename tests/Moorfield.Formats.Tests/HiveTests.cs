using System.Text;
using CsCheck;
using Moorfield.Formats.Hives;
using Moorfield.Tests;

namespace Moorfield.Formats.Tests;

public sealed class HiveTests : IDisposable
{
    private static readonly DateTimeOffset Time = new(2026, 10, 5, 6, 30, 0, TimeSpan.Zero);
    private readonly TemporaryFolder _folder = new();

    private static readonly Gen<HiveValue> Value = Gen.Select(
        Gen.String[Gen.Char["abcXYZ 09_"], 0, 12], Gen.Int[0, 11], Gen.Byte.Array[0, 300], (name, type, data) =>
        new HiveValue(name, (HiveValueType)type, data));

    private static readonly Gen<RecordedKey> Leaf = Gen.Select(Gen.Int[0, 9], Value.Array[0, 5], (n, values) => Key($"leaf {n}", values, []));

    private static readonly Gen<RecordedKey> Tree = Gen.Select(
        Value.Array[0, 5], Leaf.Array[0, 6], (values, leaves) => Key("tree", values, [Key("Below", [], leaves), .. leaves]));

    private static RecordedKey Key(string name, IEnumerable<HiveValue> values, IEnumerable<RecordedKey> keys) => new(
        name, [.. values.DistinctBy(v => v.Name, StringComparer.OrdinalIgnoreCase)],
        [.. keys.DistinctBy(k => k.Name, StringComparer.OrdinalIgnoreCase)]);

    private byte[] Make(Action<Hive> fill, byte[]? from = null)
    {
        _folder.Write("making", from ?? MinimalHive.Create("ROOT", Time));
        using var file = File.OpenHandle(_folder["making"]);
        using var hive = Hive.OpenWrite(file);
        fill(hive);
        return hive.ToArray();
    }

    private T Read<T>(byte[] content, Func<Hive, T> read)
    {
        _folder.Write("reading", content);
        using var file = File.OpenHandle(_folder["reading"]);
        using var hive = Hive.OpenRead(file);
        return read(hive);
    }

    [Fact]
    public void A_hive_made_from_nothing_is_a_hive_to_other_programs()
    {
        string path = _folder.Write("hive", MinimalHive.Create("ROOT", Time));
        Tool.Read("reglookup", path).ShouldContain("PATH,TYPE,VALUE");
        Tool.Run("hivexsh", [path], null, "ls\n").ExitCode.ShouldBe(0);
    }

    [Fact]
    public void Values_of_every_type_are_read_back_by_another_program()
    {
        string path = _folder.Write("hive", Make(hive =>
        {
            var key = hive.Create(@"Saltmarsh\Types");
            key.Set(HiveValue.FromString("text", "Fähre"));
            key.Set(HiveValue.FromString("path", @"%SystemRoot%\x", HiveValueType.ExpandString));
            key.Set(HiveValue.FromDWord("number", 0x12345678));
            key.Set(HiveValue.FromQWord("long", 0x1122334455667788));
            key.Set(HiveValue.FromStrings("list", ["one", "two"]));
            key.Set(new HiveValue("bytes", HiveValueType.Binary, new byte[] { 1, 2, 3 }));
            key.Set(new HiveValue("nothing", HiveValueType.None, Array.Empty<byte>()));
            key.Set(HiveValue.FromString("", "default"));
        }));
        string text = Tool.Read("hivexregedit", "--export", "--unsafe-printable-strings", path, @"\Saltmarsh\Types");
        text.ShouldContain("\"number\"=dword:12345678");
        text.ShouldContain("\"bytes\"=hex(3):01,02,03");
        text.ShouldContain("\"long\"=hex(b):88,77,66,55,44,33,22,11");
        text.ShouldContain("\"list\"=hex(7):6f,00,6e,00,65,00,00,00,74,00,77,00,6f,00,00,00,00,00");
        text.ShouldContain("\"nothing\"=hex(0):");
        text.ShouldContain("@=str(1):\"default\"");
        Tool.Read("reglookup", path).ShouldContain("/Saltmarsh/Types/number,DWORD,0x12345678");
    }

    [Fact]
    public void A_subtree_is_the_same_after_export_and_import() => Tree.Sample(
        tree =>
        {
            byte[] first = Make(hive => hive.Root.Import(tree));
            var exported = Read(first, hive => hive.Find("tree")!.Value.Export());
            exported.ShouldBe(tree);
            Read(Make(hive => hive.Root.Import(exported)), hive => hive.Find("tree")!.Value.Export()).ShouldBe(tree);
        },
        iter: 60, threads: 1);

    [Fact]
    public void A_deleted_key_is_gone_with_all_below_it_and_nothing_else()
    {
        byte[] full = Make(hive =>
        {
            hive.Create(@"A\B\C").Set(HiveValue.FromDWord("n", 1));
            hive.Create(@"A\D").Set(HiveValue.FromDWord("m", 2));
        });
        byte[] less = Make(hive => hive.Find(@"a\b")!.Value.Delete(), full);
        Read(less, hive => (hive.Find(@"A\B") is null, hive.Find(@"A\D")?.Value("M")?.AsDWord())).ShouldBe((true, 2u));
        Tool.Read("reglookup", _folder.Write("less", less)).ShouldNotContain("/A/B");
    }

    [Fact]
    public void A_removed_value_leaves_the_others()
    {
        byte[] content = Make(hive =>
        {
            var key = hive.Create("K");
            for (uint i = 0; i < 5; i++)
                key.Set(HiveValue.FromDWord($"v{i}", i));
            key.Remove("V2");
            key.Set(HiveValue.FromDWord("v3", 33));
        });
        Read(content, hive => string.Join(' ', hive.Find("K")!.Value.Values().Select(v => $"{v.Name}={v.AsDWord()}").Order()))
            .ShouldBe("v0=0 v1=1 v3=33 v4=4");
    }

    [Fact]
    public void Many_subkeys_are_found_whatever_their_case()
    {
        byte[] content = Make(hive =>
        {
            for (int i = 0; i < 800; i++)
                hive.Create($@"Many\Package.Number.{i}_1.0.0.0_x64__8pewgm0k42rsa");
        });
        Read(content, hive => hive.Find("Many")!.Value.Children().Count).ShouldBe(800);
        Read(content, hive => hive.Find(@"MANY\package.number.799_1.0.0.0_X64__8pewgm0k42rsa") is not null).ShouldBeTrue();
    }

    [Fact]
    public void The_same_filling_gives_the_same_bytes()
    {
        byte[] One() => Make(hive => hive.Create(@"A\B").Set(HiveValue.FromString("s", "t")));
        One().ShouldBe(One());
    }

    [Fact]
    public void A_value_longer_than_the_registry_keeps_in_one_cell_is_refused() =>
        Should.Throw<IOException>(() =>
            Make(hive => hive.Root.Set(new HiveValue("v", HiveValueType.Binary, new byte[HiveValue.MaxWritableLength + 1]))));

    [Fact]
    public void A_dirty_hive_can_be_read_and_not_written()
    {
        byte[] content = Make(hive => hive.Create("A"));
        content[4]++;
        content[508]++; // the checksum is an XOR: the same bit there
        if (BitConverter.ToUInt32(content, 508) != Checksum(content))
            BitConverter.TryWriteBytes(content.AsSpan(508), Checksum(content));
        Read(content, hive => (hive.Header.IsDirty, hive.Find("A") is not null)).ShouldBe((true, true));
        Should.Throw<InvalidDataException>(() => Make(_ => { }, content)).Message.ShouldContain("not flushed");
    }

    private static uint Checksum(byte[] content) => Enumerable.Range(0, 127).Aggregate(0u, (sum, i) => sum ^ BitConverter.ToUInt32(content, i * 4));

    public static TheoryData<byte[], string> NoHives() => new()
    {
        { [], "0 bytes" },
        { new byte[8192], "regf" },
        { Encoding.ASCII.GetBytes(new string('x', 8192)), "regf" },
        { MinimalHive.Create("ROOT", Time)[..4096], "cut off" },
        { MinimalHive.Create("ROOT", Time)[..4000], "4,000 bytes" },
    };

    [Theory]
    [MemberData(nameof(NoHives))]
    public void What_is_no_hive_is_refused_with_a_reason(byte[] content, string reason) =>
        Should.Throw<InvalidDataException>(() => Read(content, _ => 0)).Message.ShouldContain(reason);

    [Fact]
    public void A_header_with_a_flipped_bit_is_refused()
    {
        byte[] content = MinimalHive.Create("ROOT", Time);
        content[36] ^= 1;
        Should.Throw<InvalidDataException>(() => Read(content, _ => 0)).Message.ShouldContain("checksum");
    }

    [Fact]
    public void Damaged_hives_end_in_clean_errors()
    {
        byte[] sound = Make(hive =>
        {
            for (int i = 0; i < 20; i++)
                hive.Create($@"A\K{i}").Set(HiveValue.FromString($"v{i}", "text"));
        });
        var random = new Random(20261005);
        for (int run = 0; run < 2000; run++)
        {
            byte[] damaged = (byte[])sound.Clone();
            for (int hit = random.Next(1, 6); hit > 0; hit--)
                damaged[random.Next(4096, damaged.Length)] = (byte)random.Next(256);
            try
            {
                Read(damaged, hive => hive.Root.Export());
                Make(
                    hive =>
                    {
                        hive.Create(@"A\New").Set(HiveValue.FromDWord("n", 1));
                        hive.Find(@"A\K7")?.Delete();
                    },
                    damaged);
            }
            catch (Exception e) when (e is InvalidDataException or IOException)
            {
                // the two kinds of error that there may be
            }
        }
    }

    public void Dispose() => _folder.Dispose();
}
