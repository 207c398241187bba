namespace Moorfield.StandIn;

/// <summary>Writes a small compiled resource index as the platform's compiler would. Source: docs/resources.md [tried].</summary>
internal static class ResourceWriter
{
    private const string Magic = "mrm_pri2";
    private const int Scale = 2, ScalePriority = 200, LanguagePriority = 700, DefaultFallback = 1000;
    private const byte ScopeInAscii = 0x30, ItemInAscii = 0x20;
    private const ushort ValueTypes = 7, Utf8String = 4;
    private const int NamesSection = 2, DataSection = 4;

    /// <summary>An index with the texts of one language, or of one display scale.</summary>
    /// <param name="package">Its name.</param>
    /// <param name="language">Tag of the language, or the scale in per cent.</param>
    /// <param name="isDefault">True if it is the language that the package was built with.</param>
    /// <param name="texts">By names, which are in the folder <c>Resources</c>; ASCII only.</param>
    /// <param name="length">Bytes that the file is to have, if it is not longer anyway.</param>
    internal static byte[] Write(string package, string language, bool isDefault, IReadOnlyList<(string Name, string Text)> texts, int length)
    {
        byte[][] Bodies(int filler) =>
        [
            Body(w => WriteAll(w, 2, ushort.MaxValue, 0, 1, 1, 1, 3, 0, 1, 0, NamesSection, 1, 3, DataSection)),
            Qualifiers(language, isDefault),
            Names(package, [.. texts.Select(t => t.Name)]),
            Map(texts.Count),
            Data([.. texts.Select(t => t.Text)], filler),
        ];
        string[] names = ["[mrm_pridescex]", "[mrm_decn_info]", "[mrm_hschemaex]", "[mrm_res_map2_]", "[mrm_dataitem]"];
        int least = Frame(names, Bodies(0)).Length;
        return least >= length ? Frame(names, Bodies(0)) : Frame(names, Bodies(length - least));
    }

    private static byte[] Body(Action<BinaryWriter> write)
    {
        var stream = new MemoryStream();
        using var writer = new BinaryWriter(stream);
        write(writer);
        return stream.ToArray();
    }

    private static void WriteAll(BinaryWriter writer, params ReadOnlySpan<int> numbers)
    {
        foreach (int number in numbers)
            writer.Write((ushort)number);
    }

    private static byte[] Padded(string name) => Encoding.ASCII.GetBytes(name.PadRight(15) + '\0');

    private static byte[] Frame(string[] names, byte[][] bodies) => Body(writer =>
    {
        const int Head = 32, Entry = 32, SectionFrame = 40, Tail = 16;
        int start = Head + (names.Length * Entry);
        int total = start + bodies.Sum(b => b.Length + SectionFrame) + Tail;
        writer.Write(Encoding.ASCII.GetBytes(Magic));
        WriteAll(writer, 0, 1);
        writer.Write(total);
        writer.Write(Head);
        writer.Write(start);
        WriteAll(writer, names.Length, ushort.MaxValue, 0, 0);
        int offset = 0;
        for (int i = 0; i < names.Length; i++)
        {
            writer.Write(Padded(names[i]));
            writer.Write(0);
            writer.Write(0);
            writer.Write(offset);
            writer.Write(bodies[i].Length + SectionFrame);
            offset += bodies[i].Length + SectionFrame;
        }
        for (int i = 0; i < names.Length; i++)
        {
            writer.Write(Padded(names[i]));
            writer.Write(0);
            writer.Write(0);
            writer.Write(bodies[i].Length + SectionFrame);
            writer.Write(0);
            writer.Write(bodies[i]);
            writer.Write(0xDEF5FADE);
            writer.Write(bodies[i].Length + SectionFrame);
        }
        writer.Write(0xDEFFFADE);
        writer.Write(total);
        writer.Write(Encoding.ASCII.GetBytes(Magic));
    });

    private static byte[] Qualifiers(string language, bool isDefault) => Body(writer =>
    {
        WriteAll(writer, 2, 2, 2, 3, 3, language.Length + 2);
        WriteAll(writer, 0, 0, 0, 1, 1, 1); // decisions: nothing; neutral; the language
        WriteAll(writer, 0, 0, 2, 1); // sets: neutral; the language
        bool isScale = char.IsAsciiDigit(language[0]);
        WriteAll(writer, 0, 0, 0, 0, 1, isScale ? ScalePriority : LanguagePriority, isDefault ? DefaultFallback : 0, 0);
        WriteAll(writer, 0, 0, 0, 1);
        writer.Write(0);
        WriteAll(writer, 2, isScale ? Scale : 0, 0, 10);
        writer.Write(1);
        WriteAll(writer, 0, 1, 1); // for the decisions sets 0 and 1, for the set qualifier 1
        writer.Write(Encoding.Unicode.GetBytes($"\0{language}\0"));
    });

    private static byte[] Names(string package, string[] names) => Body(writer =>
    {
        string unique = $"ms-appx://{package}/\0", simple = $"{package}\0";
        WriteAll(writer, 1, unique.Length, simple.Length, 0);
        writer.Write(Padded("[def_hnamesx]"));
        WriteAll(writer, 1, 0);
        writer.Write(0);
        writer.Write(names.Length * 7919); // a checksum that nobody checks
        writer.Write(2);
        writer.Write(names.Length);
        writer.Write(Encoding.Unicode.GetBytes(unique + simple));
        while (writer.BaseStream.Position % sizeof(uint) != 0)
            writer.Write((byte)0);
        const string Folder = "Resources";
        byte[] ascii = Encoding.ASCII.GetBytes(Folder + '\0' + string.Concat(names.Select(n => n + '\0')));
        int nodes = names.Length + 2;
        WriteAll(writer, names.Max(n => n.Length) + Folder.Length + 1, 0);
        writer.Write(nodes);
        writer.Write(2);
        writer.Write(names.Length);
        writer.Write(0);
        writer.Write(28 + (nodes * 12) + (2 * 8) + (names.Length * 2) + ascii.Length);
        writer.Write(ascii.Length);
        Node(0, 0, '\0', 0, 0x10, 0, 0);
        Node(0, Folder.Length, 'R', Folder.Length, ScopeInAscii, 0, 1);
        int offset = Folder.Length + 1;
        for (int i = 0; i < names.Length; i++)
        {
            Node(1, Folder.Length + 1 + names[i].Length, char.ToUpperInvariant(names[i][0]), names[i].Length, ItemInAscii, offset, i);
            offset += names[i].Length + 1;
        }
        WriteAll(writer, 0, 1, 1, 0, 1, names.Length, 2, 0);
        foreach (int item in Enumerable.Range(2, names.Length))
            writer.Write((ushort)item);
        writer.Write(ascii);

        void Node(int parent, int path, char first, int length, byte flags, int place, int number)
        {
            WriteAll(writer, parent, path, first);
            writer.Write((byte)length);
            writer.Write(flags);
            WriteAll(writer, place, number);
        }
    });

    private static byte[] Map(int items) => Body(writer =>
    {
        WriteAll(writer, 0, 0, NamesSection, 0, 1, ValueTypes, 1, 1, items, 0);
        writer.Write(items);
        writer.Write(0);
        writer.Write(0);
        for (int type = 0; type < ValueTypes; type++)
        {
            writer.Write(4);
            writer.Write(type);
        }
        WriteAll(writer, 0, 0); // from item 0 on: group 0
        WriteAll(writer, items, 0); // all items: from info 0 on
        for (int i = 0; i < items; i++)
            WriteAll(writer, 2, i); // by the decision for the language
        for (int i = 0; i < items; i++)
        {
            writer.Write((byte)1);
            writer.Write((byte)Utf8String);
            WriteAll(writer, 0, i, DataSection);
        }
    });

    private static byte[] Data(string[] texts, int filler) => Body(writer =>
    {
        byte[][] values = [.. texts.Select(t => Encoding.UTF8.GetBytes(t + '\0'))];
        writer.Write(0);
        WriteAll(writer, values.Length, 0);
        writer.Write(values.Sum(v => v.Length) + filler);
        int offset = 0;
        foreach (byte[] value in values)
        {
            WriteAll(writer, offset, value.Length);
            offset += value.Length;
        }
        foreach (byte[] value in values)
            writer.Write(value);
        writer.Write(Filler.Bytes("values", filler));
    });
}
