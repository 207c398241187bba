using System.IO.Compression;
using System.Runtime.CompilerServices;
using System.Text;
using Moorfield.Formats.Resources;

namespace Moorfield.Formats.Tests;

/// <summary>Numbers of a compiled resource index that are the first which do not fit any more.</summary>
public sealed class ResourceBoundTests
{
    private const int Head = 32, Tail = 16;
    private readonly byte[] _bytes = Unpacked();

    private static byte[] Unpacked([CallerFilePath] string here = "")
    {
        using var stream = new GZipStream(File.OpenRead(Path.Combine(Path.GetDirectoryName(here)!, "../data/pri/small/resources.pri.gz")),
            CompressionMode.Decompress);
        var content = new MemoryStream();
        stream.CopyTo(content);
        return content.ToArray();
    }

    private int Section(string name)
    {
        int table = Int(16), start = Int(20);
        return Enumerable.Range(0, Short(24)).Select(i => start + Int(table + (i * 32) + 24))
            .First(at => Encoding.Latin1.GetString(_bytes, at, 16).TrimEnd('\0', ' ') == name) + Head;
    }

    private int Int(int at) => BitConverter.ToInt32(_bytes, at);

    private int Short(int at) => BitConverter.ToUInt16(_bytes, at);

    private void Set(int at, int number, int width = 4) => BitConverter.GetBytes(number).AsSpan(0, width).CopyTo(_bytes.AsSpan(at));

    private string Refused(byte[]? bytes = null) => Should.Throw<InvalidDataException>(() =>
        ResourceIndex.Read(bytes ?? _bytes).Items().Sum(i => i.Candidates.Length)).Message;

    /// <summary>Where the list of names begins, which holds nodes of 12 bytes behind its head of 28.</summary>
    private int Names()
    {
        int body = Section("[mrm_hschemaex]"), at = 24 + 20 + ((Short(body + 2) + Short(body + 4)) * 2);
        return body + ((at + 3) / 4 * 4);
    }

    private int Items() => Names() + 28 + (Int(Names() + 4) * 12) + (Int(Names() + 8) * 8);

    private int Infos()
    {
        int map = Section("[mrm_res_map2_]");
        return map + 32 + Short(map) + Short(map + 6) + (Short(map + 10) * 8) + (Short(map + 12) * 4) + (Short(map + 14) * 4);
    }

    /// <summary>The file with another body for a section, which comes to lie behind the others.</summary>
    private byte[] With(string name, byte[] body)
    {
        int at = Section(name), table = Int(16), start = Int(20), total = Int(12);
        int entry = Enumerable.Range(0, Short(24)).Select(i => table + (i * 32)).First(e => start + Int(e + 24) + Head == at);
        int length = Head + body.Length + 8;
        byte[] file = [.. _bytes[..(total - Tail)], .. _bytes[(at - Head)..at], .. body, .. BitConverter.GetBytes(0xDEF5FADE),
            .. BitConverter.GetBytes(length), .. _bytes[(total - Tail)..total]];
        BitConverter.GetBytes(total - Tail - start).CopyTo(file, entry + 24);
        BitConverter.GetBytes(length).CopyTo(file, entry + 28);
        BitConverter.GetBytes(file.Length).CopyTo(file, 12);
        BitConverter.GetBytes(file.Length).CopyTo(file, file.Length - 12);
        return file;
    }

    private byte[] Body(string name) => _bytes[Section(name)..(Section(name) + Int(Section(name) - 8) - Head - 8)];

    private static IEnumerable<string> Told(byte[] file) => ResourceIndex.Read(file).Items()
        .SelectMany(i => i.Candidates.Select(c => $"{i.Path}: {c.Text} {string.Join(' ', c.Qualifiers)}"));

    /// <summary>Indexes with many resources have a second list of each kind, with wider numbers.</summary>
    /// <param name="kept">How many entries of each kind stay in the first list.</param>
    [Theory]
    [InlineData(0)]
    [InlineData(1)]
    [InlineData(2)]
    public void Wide_lists_say_the_same(int kept)
    {
        var before = Told(_bytes).ToList();
        before.Count.ShouldBeGreaterThan(3);
        byte[] map = Body("[mrm_res_map2_]");
        int U16(int at) => BitConverter.ToUInt16(map, at);
        int environment = U16(0), reference = U16(6), types = U16(10);
        int[] counts = [U16(12), U16(14), U16(16)], small = [.. counts.Select(c => Math.Min(kept, c))];
        int at = 32 + environment + reference + (types * 8);
        var (lists, more) = (new List<byte>(), new List<byte>());
        for (int list = 0; list < 3; list++)
        {
            lists.AddRange(map[at..(at + (small[list] * 4))]);
            for (int i = small[list]; i < counts[list]; i++)
                more.AddRange([.. BitConverter.GetBytes(U16(at + (i * 4))), .. BitConverter.GetBytes(U16(at + (i * 4) + 2))]);
            at += counts[list] * 4;
        }
        BitConverter.ToInt32(map, 28).ShouldBe(0);
        int values = BitConverter.ToInt32(map, 20);
        byte[] head = map[..(32 + environment + reference + (types * 8))];
        for (int list = 0; list < 3; list++)
            BitConverter.GetBytes((ushort)small[list]).CopyTo(head, 12 + (2 * list));
        BitConverter.GetBytes((ushort)1).CopyTo(head, 18);
        BitConverter.GetBytes(12 + more.Count).CopyTo(head, 28);
        byte[] wide = [.. head, .. lists, .. Enumerable.Range(0, 3).SelectMany(l => BitConverter.GetBytes(counts[l] - small[l])), .. more,
            .. Enumerable.Range(0, values).SelectMany(v => (byte[])[.. map[(at + (v * 8))..(at + (v * 8) + 8)], 0, 0]),
            .. map[(at + (values * 8))..]];
        Told(With("[mrm_res_map2_]", wide)).ShouldBe(before);
        // A second list that is shorter than it says.
        BitConverter.GetBytes(12 + more.Count - 1).CopyTo(wide, 28);
        if (more.Count > 0)
            Refused(With("[mrm_res_map2_]", wide)).ShouldContain("ends early in its list of values");
    }

    [Fact]
    public void Wide_names_say_the_same()
    {
        var before = Told(_bytes).ToList();
        byte[] body = Body("[mrm_hschemaex]");
        int block = Names() - Section("[mrm_hschemaex]");
        int U16(int at) => BitConverter.ToUInt16(body, block + at);
        int nodes = BitConverter.ToInt32(body, block + 4), scopes = BitConverter.ToInt32(body, block + 8);
        int items = BitConverter.ToInt32(body, block + 12);
        byte[] Node(int at)
        {
            int offset = U16(at + 8) | ((body[block + at + 7] & 0xF) << 16);
            byte[] node = new byte[20];
            BitConverter.GetBytes(U16(at)).CopyTo(node, 0);
            (node[8], node[9]) = (body[block + at + 6], body[block + at + 7]);
            BitConverter.GetBytes((ushort)(offset >> 16)).CopyTo(node, 10);
            BitConverter.GetBytes((ushort)offset).CopyTo(node, 12);
            return node;
        }

        int itemsAt = 28 + (nodes * 12) + (scopes * 8);
        byte[] wide = [.. body[..(block + 28)], .. Enumerable.Range(0, nodes).SelectMany(n => Node(28 + (n * 12))), .. new byte[scopes * 16],
            .. Enumerable.Range(0, items).SelectMany(i => BitConverter.GetBytes(U16(itemsAt + (i * 2)))), .. body[(block + itemsAt + (items * 2))..]];
        wide[block + 2] = 1;
        Told(With("[mrm_hschemaex]", wide)).ShouldBe(before);
    }

    [Fact]
    public void Each_resource_is_said_once_and_has_a_place_in_the_list()
    {
        int map = Section("[mrm_res_map2_]"), lists = map + 32 + Short(map) + Short(map + 6) + (Short(map + 10) * 8);
        int groups = Short(map + 14), infos = Short(map + 16);
        // The first entry leads to a single value, the last there is; then to one more.
        Set(lists + 2, groups + infos, 2);
        Refused().ShouldContain("speaks of resources that are not there");
    }

    [Fact]
    public void A_name_may_end_where_the_names_end_and_no_further()
    {
        int node = Names() + 28 + (Short(Items()) * 12), length = _bytes[node + 6];
        bool ascii = (_bytes[node + 7] & 0x20) != 0;
        int all = Int(Names() + (ascii ? 24 : 16));
        Set(node + 8, all - length, 2);
        ResourceIndex.Read(_bytes).Items().ShouldNotBeEmpty();
        Set(node + 8, all - length + 1, 2);
        Refused().ShouldContain("has a name that lies outside");
    }

    [Fact]
    public void An_item_names_one_of_the_nodes()
    {
        Set(Items(), Int(Names() + 4), 2);
        Refused().ShouldContain("refers to a name that is not there");
    }

    [Fact]
    public void A_resource_names_one_of_the_decisions()
    {
        Set(Infos(), Short(Section("[mrm_decn_info]") + 6), 2);
        Refused().ShouldContain("refers to qualifiers that are not there");
    }

    [Fact]
    public void Sets_of_a_decision_may_end_where_their_list_ends_and_no_further()
    {
        int decision = Section("[mrm_decn_info]"), of = decision + 12 + (Short(Infos()) * 4), listed = Short(decision + 8);
        Set(of, listed - Short(of + 2) + 1, 2);
        Refused().ShouldContain("refers to qualifiers that are not there");
    }

    [Fact]
    public void Qualifiers_may_not_have_more_characters_than_there_are()
    {
        Set(Section("[mrm_decn_info]") + 10, 30_000, 2);
        Refused().ShouldContain("ends early in its qualifiers");
    }

    [Fact]
    public void A_value_has_one_of_the_types()
    {
        int map = Section("[mrm_res_map2_]"), candidates = Infos() + (Short(map + 16) * 4) + Int(map + 28);
        _bytes[candidates + 1] = (byte)Short(map + 10);
        Refused().ShouldContain("has a value of no type that is known");
    }

    [Fact]
    public void The_table_of_sections_and_the_sections_begin_inside_of_the_file()
    {
        int total = Int(12), table = Int(16);
        Set(16, total - (Short(24) * Head) + 1);
        Refused().ShouldContain("has a damaged table of sections");
        Set(16, table);
        Set(20, total);
        Refused().ShouldContain("has a damaged section 0");
        Set(20, total + 1);
        Refused().ShouldContain("has a damaged table of sections");
    }

    [Fact]
    public void The_shortest_file_is_a_head_and_an_end()
    {
        byte[] end = _bytes[(Int(12) - Tail)..Int(12)], shortest = [.. _bytes[..Head], .. end];
        BitConverter.GetBytes(shortest.Length).CopyTo(shortest, 12);
        BitConverter.GetBytes(shortest.Length).CopyTo(shortest, Head + 4);
        BitConverter.GetBytes(Head).CopyTo(shortest, 16);
        BitConverter.GetBytes(Head).CopyTo(shortest, 20);
        shortest[24] = shortest[25] = 0;
        Refused(shortest).ShouldContain("has no section");
        Refused(shortest[..^1]).ShouldContain("does not begin as one");
        Refused([.. Enumerable.Repeat((byte)'x', 200)]).ShouldContain("does not begin as one");
    }
}
