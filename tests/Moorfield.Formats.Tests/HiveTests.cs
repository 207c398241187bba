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
    public void A_hive_made_from_nothing_says_when_and_who_may_what()
    {
        byte[] content = MinimalHive.Create("ROOT", Time);
        Read(content, hive => hive.Root.LastWritten).ShouldBe(Time);
        string said = Tool.Read("reglookup", "-s", _folder.Write("hive", content));
        said.ShouldContain("S-1-5-32-544");
        said.ShouldContain("2026-10-05 06:30:00");
        foreach (string who in new[] { "S-1-5-32-544", "S-1-5-18", "S-1-5-32-545" })
            said.ShouldContain(who);
    }

    /// <summary>Cells in use of one kind: where their content begins.</summary>
    private static IEnumerable<int> Cells(byte[] hive, string kind)
    {
        for (int bin = 4096; bin + 32 <= hive.Length && hive.AsSpan(bin, 4).SequenceEqual("hbin"u8); bin += BitConverter.ToInt32(hive, bin + 8))
        {
            for (int cell = bin + 32; cell < bin + BitConverter.ToInt32(hive, bin + 8); cell += Math.Abs(BitConverter.ToInt32(hive, cell)))
            {
                if (BitConverter.ToInt32(hive, cell) < 0 && Encoding.ASCII.GetString(hive, cell + 4, 2) == kind)
                    yield return cell + 4;
            }
        }
    }

    [Theory]
    [InlineData("nk", 44, "security descriptor")]
    [InlineData("nk", 28, "subkeys")]
    [InlineData("nk", 40, "values")]
    [InlineData("sk", 4, "next descriptor")]
    [InlineData("sk", 8, "descriptor before")]
    [InlineData("vk", 8, "data")]
    [InlineData("lh", 4, "first subkey")]
    public void A_reference_that_leads_nowhere_keeps_a_hive_from_being_written(string kind, int field, string what)
    {
        byte[] sound = Make(hive =>
        {
            for (int i = 0; i < 4; i++)
            {
                var key = hive.Create($@"A\K{i}");
                key.Set(HiveValue.FromString($"v{i}", "a text that is longer than a cell"));
                key.Set(HiveValue.FromDWord("n", 1));
            }
        });
        Make(_ => { }, sound).Length.ShouldBe(sound.Length);
        // Of keys, one that has what the field is about; of values, one whose data is in a cell of its own.
        int cell = Cells(sound, kind).First(c => kind switch
        {
            "nk" => field == 44 || BitConverter.ToInt32(sound, c + (field == 28 ? 20 : 36)) > 0,
            "vk" => BitConverter.ToUInt32(sound, c + 4) is > 4 and < 0x80000000,
            _ => true,
        });
        int other = Cells(sound, kind == "vk" ? "nk" : "vk").First() - 4096 - 4;
        uint right = BitConverter.ToUInt32(sound, cell + field);
        foreach (uint wrong in new[] { 0xFFFFFFF0, 4u, (uint)sound.Length, (uint)(sound.Length - 4096), right + 8 })
        {
            byte[] damaged = [.. sound];
            BitConverter.GetBytes(wrong).CopyTo(damaged, cell + field);
            Should.Throw<InvalidDataException>(() => Make(_ => { }, damaged), $"{what}: 0x{wrong:x}").Message.ShouldContain("does not fit");
        }
        if (kind == "vk")
            return; // data may be any cell
        byte[] mistaken = [.. sound];
        BitConverter.GetBytes(other).CopyTo(mistaken, cell + field);
        Should.Throw<InvalidDataException>(() => Make(_ => { }, mistaken), what).Message.ShouldContain("does not fit");
    }

    [Fact]
    public void A_key_a_value_or_a_count_that_cannot_be_keeps_a_hive_from_being_written()
    {
        byte[] sound = Make(hive =>
        {
            for (int i = 0; i < 4; i++)
                hive.Create($@"A\K{i}").Set(HiveValue.FromString($"v{i}", "a text that is longer than a cell"));
        });
        void Refused(Action<byte[]> damage, string what)
        {
            byte[] damaged = [.. sound];
            damage(damaged);
            Should.Throw<InvalidDataException>(() => Make(_ => { }, damaged), what).Message.ShouldContain("does not fit");
        }
        int list = Cells(sound, "lh").First(c => BitConverter.ToUInt16(sound, c + 2) > 1), security = Cells(sound, "sk").First();
        Refused(d => BitConverter.GetBytes(BitConverter.ToUInt32(d, list + 4)).CopyTo(d, list + 12), "the same key twice");
        Refused(d => BitConverter.GetBytes((ushort)500).CopyTo(d, list + 2), "more subkeys than the list holds");
        Refused(d => d[list] = (byte)'x', "a list of no kind");
        Refused(d => BitConverter.GetBytes(0).CopyTo(d, security + 12), "a descriptor in use that nothing refers to");
        Refused(d => BitConverter.GetBytes(1000).CopyTo(d, 4096 + 8), "a bin of a size that no bin has");
        Refused(d => BitConverter.GetBytes(0).CopyTo(d, 4096 + 32), "a cell without a size");
        Refused(d => BitConverter.GetBytes(-12).CopyTo(d, 4096 + 32), "a cell of a size that no cell has");
        Refused(d => BitConverter.GetBytes(-100_000).CopyTo(d, 4096 + 32), "a cell that ends behind its bin");
        var values = Cells(sound, "nk").Where(c => BitConverter.ToInt32(sound, c + 36) > 0).Take(2).ToArray();
        int Listed(int key) => BitConverter.ToInt32(sound, key + 40) + 4096 + 4;
        Refused(d => BitConverter.GetBytes(BitConverter.ToUInt32(d, Listed(values[0]))).CopyTo(d, Listed(values[1])), "the same value twice");
        Refused(d => BitConverter.GetBytes(1_000_000).CopyTo(d, values[0] + 36), "more values than the list holds");
        int last = 4096;
        while (last + BitConverter.ToInt32(sound, last + 8) < sound.Length && sound.AsSpan(last + BitConverter.ToInt32(sound, last + 8), 4)
            .SequenceEqual("hbin"u8))
            last += BitConverter.ToInt32(sound, last + 8);
        Refused(d => BitConverter.GetBytes(BitConverter.ToInt32(d, last + 8) + 4096).CopyTo(d, last + 8), "a bin that ends behind the hive");
        // Keys that have nothing in them are no two either.
        sound = Make(hive => Enumerable.Range(0, 4).ToList().ForEach(i => hive.Create($@"A\K{i}")));
        list = Cells(sound, "lh").First(c => BitConverter.ToUInt16(sound, c + 2) > 1);
        Refused(d => BitConverter.GetBytes(BitConverter.ToUInt32(d, list + 4)).CopyTo(d, list + 12), "the same empty key twice");
    }

    [Fact]
    public void What_stands_behind_the_last_bin_does_not_matter()
    {
        byte[] sound = Make(hive => hive.Create(@"A\B").Set(HiveValue.FromDWord("n", 7)));
        byte[] longer = [.. sound, .. Enumerable.Repeat((byte)0xFF, 4096)];
        byte[] changed = Make(hive => hive.Create(@"A\C"), longer);
        Read(changed, hive => hive.Find("A")!.Value.Children().Count).ShouldBe(2);
        Read(changed, hive => hive.Find(@"A\B")!.Value.Value("n")!.AsDWord()).ShouldBe(7u);
    }

    [Fact]
    public void Keys_that_are_nested_deeper_than_Windows_allows_are_not_recorded()
    {
        static string Path(int depth) => string.Join('\\', Enumerable.Repeat("a", depth));
        Read(Make(hive => hive.Create(Path(Hive.MaxDepth - 1))), hive => hive.Root.Export().Keys.Length).ShouldBe(1);
        byte[] deep = Make(hive => hive.Create(Path(Hive.MaxDepth)));
        Should.Throw<InvalidDataException>(() => Read(deep, hive => hive.Root.Export())).Message.ShouldContain("deeper than 512 levels");
    }

    [Fact]
    public void A_new_hive_belongs_to_the_administrators()
    {
        byte[] made = MinimalHive.Create("ROOT", Time);
        int descriptor = Cells(made, "sk").Single() + 20;
        byte[] administrators = [1, 2, 0, 0, 0, 0, 0, 5, 32, 0, 0, 0, 0x20, 2, 0, 0];
        foreach (int field in new[] { 4, 8 })
            made.AsSpan(descriptor + BitConverter.ToInt32(made, descriptor + field), 16).SequenceEqual(administrators).ShouldBeTrue($"{field}");
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
