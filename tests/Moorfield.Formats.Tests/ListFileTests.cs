using System.Text.Json;
using System.Text;
using System.Xml.Linq;
using CsCheck;
using Moorfield.Formats.Defaults;

namespace Moorfield.Formats.Tests;

public class ListFileTests
{
    private const string Associations = """
        <?xml version="1.0" encoding="utf-8"?>
        <!-- by hand --><DefaultAssociations>
          <Association Identifier=".png" ProgId="AppX1" ApplicationName="Pictures &amp; more"   />
        	<Association Identifier='.txt' ProgId="Notes.Text" ApplicationName="Notes" Other="1"></Association><!-- beside -->
          <Association Identifier="tides" ProgId="AppX2" ApplicationName="Tide Tables" />
        </DefaultAssociations>
        """;

    private const string Pins = """
        { "other": [1, { "pinnedList": [] }],
          "pinnedList": [
            { "packagedAppId": "A_1!App" },  { "desktopAppLink": "ünïcode 🚢.lnk", "more": { "x": [1, 2] } },
            {"packagedAppId":"B_2!App"}
          ], "after": true }
        """;

    private static ListFile Read(string text, ListFormat format) => ListFile.Read(Encoding.UTF8.GetBytes(text), format);

    private static string Text(ListFile file) => Encoding.UTF8.GetString(file.ToArray());

    [Fact]
    public void Entries_are_what_XML_says_and_text_is_as_written()
    {
        var file = Read(Associations, ListFormat.Associations);
        file.Entries.Select(e => e["identifier"])
            .ShouldBe(XDocument.Parse(Associations).Root!.Elements().Select(e => (string?)e.Attribute("Identifier")));
        file.Entries[0]["ApplicationName"].ShouldBe("Pictures & more");
        file.Entries[1].Text.ShouldBe("""<Association Identifier='.txt' ProgId="Notes.Text" ApplicationName="Notes" Other="1"></Association>""");
        Text(file).ShouldBe(Associations);
    }

    [Fact]
    public void Entries_are_what_JSON_says_and_text_is_as_written()
    {
        var file = Read(Pins, ListFormat.Pins);
        file.Entries.Select(e => e.Text)
            .ShouldBe(JsonDocument.Parse(Pins).RootElement.GetProperty("pinnedList").EnumerateArray().Select(e => e.GetRawText()));
        file.Entries[2]["packagedAppId"].ShouldBe("B_2!App");
        Text(file).ShouldBe(Pins);
    }

    [Theory]
    [InlineData(ListFormat.Associations)]
    [InlineData(ListFormat.Pins)]
    public void What_is_taken_out_and_put_back_leaves_the_text_as_it_was(ListFormat format)
    {
        string text = format == ListFormat.Pins ? Pins : Associations;
        for (int i = 0; i < 3; i++)
        {
            var file = Read(text, format);
            var (without, gap) = file.Without(i);
            without.Entries.Select(e => e.Text).ShouldBe(file.Entries.RemoveAt(i).Select(e => e.Text));
            var back = without.With(i, file.Entries[i].Text, gap);
            back.Entries.Select(e => e.Text).ShouldBe(file.Entries.Select(e => e.Text));
            if (i == 0 || format == ListFormat.Associations)
                Text(back).ShouldBe(text);
        }
    }

    [Fact]
    public void In_any_order_out_and_in_the_entries_come_back_and_every_step_is_well_formed()
    {
        Gen.Select(Gen.Bool, Gen.Int[0, 5].Array[1, 6]).Sample((json, picks) =>
        {
            var format = json ? ListFormat.Pins : ListFormat.Associations;
            var file = Read(json ? Pins : Associations, format);
            var expected = file.Entries.Select(e => e.Text).ToList();
            var taken = new Stack<(int Index, string Text, string Gap)>();
            foreach (int pick in picks.Where(_ => file.Entries.Length > 0))
            {
                int index = pick % file.Entries.Length;
                string text = file.Entries[index].Text;
                (file, string gap) = file.Without(index);
                taken.Push((index, text, gap));
                CheckWellFormed(file, json);
            }
            while (taken.TryPop(out var entry))
            {
                file = file.With(entry.Index, entry.Text, entry.Gap);
                CheckWellFormed(file, json);
            }
            file.Entries.Select(e => e.Text).ShouldBe(expected);
        });

        static void CheckWellFormed(ListFile file, bool json)
        {
            if (json)
                JsonDocument.Parse(file.ToArray()).RootElement.GetProperty("pinnedList").GetArrayLength().ShouldBe(file.Entries.Length);
            else
                XDocument.Load(new MemoryStream(file.ToArray())).Root!.Elements().Count().ShouldBe(file.Entries.Length);
        }
    }

    [Fact]
    public void Byte_order_marks_and_UTF_16_stay()
    {
        foreach (var encoding in new Encoding[] { new UTF8Encoding(true), new UnicodeEncoding(false, true), new UnicodeEncoding(true, true) })
        {
            byte[] bytes = [.. encoding.Preamble, .. encoding.GetBytes(Associations.Replace("utf-8", encoding.WebName))];
            var file = ListFile.Read(bytes, ListFormat.Associations);
            file.ToArray().ShouldBe(bytes);
            file.Without(0).File.ToArray().AsSpan().StartsWith(encoding.Preamble).ShouldBeTrue();
        }
    }

    [Theory]
    [InlineData("<DefaultAssociations><Association", ListFormat.Associations, "not well-formed XML at line 1")]
    [InlineData("<!DOCTYPE x [<!ENTITY a 'b'>]><DefaultAssociations>&a;</DefaultAssociations>", ListFormat.Associations, "holds a DTD")]
    [InlineData("<Other/>", ListFormat.Associations, "holds no DefaultAssociations")]
    [InlineData("", ListFormat.Associations, "not well-formed XML")]
    [InlineData("{ \"pinnedList\": [ {}", ListFormat.Pins, "not well-formed JSON")]
    [InlineData("{ \"pinnedList\": [ {} ] } trailing", ListFormat.Pins, "not well-formed JSON")]
    [InlineData("[]", ListFormat.Pins, "is not a JSON object")]
    [InlineData("{}", ListFormat.Pins, "holds no pinnedList")]
    public void What_is_no_such_list_is_refused(string text, ListFormat format, string message) =>
        Should.Throw<InvalidDataException>(() => Read(text, format)).Message.ShouldContain(message);

    [Fact]
    public void What_is_no_text_or_too_long_is_refused()
    {
        Should.Throw<InvalidDataException>(() =>
        ListFile.Read([0x3C, 0xFF, 0x41], ListFormat.Associations)).Message.ShouldContain("neither UTF-8 nor UTF-16");
        Should.Throw<InvalidDataException>(() => ListFile.Read(new byte[ListFile.MaxBytes + 1], ListFormat.Pins)).Message.ShouldContain("more than");
    }

    [Fact]
    public void Only_an_entry_can_be_put_in()
    {
        var file = Read(Associations, ListFormat.Associations);
        Should.Throw<InvalidDataException>(() => file.With(1, "</DefaultAssociations>", ""));
        Should.Throw<InvalidDataException>(() => file.With(1, "text", ""));
        Should.Throw<InvalidDataException>(() => Read(Pins, ListFormat.Pins).With(0, "1, 2", ""));
    }
}
