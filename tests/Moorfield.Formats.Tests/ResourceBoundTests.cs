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
