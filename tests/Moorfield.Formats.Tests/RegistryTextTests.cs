using System.Text;
using CsCheck;
using Moorfield.Formats.Hives;

namespace Moorfield.Formats.Tests;

public class RegistryTextTests
{
    private static RegistryStatement[] Read(string text) => [.. RegistryText.Read(Encoding.UTF8.GetBytes(text))];

    [Fact]
    public void Every_kind_of_statement_is_read()
    {
        var read = Read("""
            Windows Registry Editor Version 5.00
            ; a remark

            [HKEY_LOCAL_MACHINE\SOFTWARE\Ferry]
            "text"="a \"quoted\" \\ path"
            @="default"
            "number"=dword:0000000A
            "expand"=hex(2):25,00,61,00,\
              25,00,00,00
            "gone"=-
            [-HKEY_LOCAL_MACHINE\SOFTWARE\Old]
            """);
        read.Select(s => (s.Line, s.Action)).ShouldBe([
            (4, RegistryAction.AddKey), (5, RegistryAction.SetValue), (6, RegistryAction.SetValue), (7, RegistryAction.SetValue),
            (8, RegistryAction.SetValue),
            (10, RegistryAction.DeleteValue), (11, RegistryAction.DeleteKey)]);
        read[1].Value!.AsString().ShouldBe("a \"quoted\" \\ path");
        read[2].Value!.Name.ShouldBe("");
        read[3].Value!.AsDWord().ShouldBe(10u);
        (read[4].Value!.Type, read[4].Value!.AsString()).ShouldBe((HiveValueType.ExpandString, "%a%"));
        read[6].Key.ShouldBe(@"HKEY_LOCAL_MACHINE\SOFTWARE\Old");
    }

    [Fact]
    public void Only_values_go_on_in_the_next_line_and_those_for_as_long_as_they_like()
    {
        Read("REGEDIT4\n; from C:\\\n[A]\n\"x\"=dword:1\n;\\").Select(s => (s.Line, s.Key)).ShouldBe([(3, "A"), (4, "A")]);
        const int Lines = 400_000;
        var read = Read($"REGEDIT4\n[A]\n\"x\"=hex:00{string.Concat(Enumerable.Repeat(",\\\n  2a", Lines))}\n\"y\"=-");
        read[1].Value!.Data.Length.ShouldBe(Lines + 1);
        (read[2].Line, read[2].Action).ShouldBe((Lines + 4, RegistryAction.DeleteValue));
    }

    [Fact]
    public void The_older_header_and_UTF_16_are_read()
    {
        Read("REGEDIT4\r\n[HKEY_LOCAL_MACHINE\\A]\r\n\"x\"=hex(2):25,61,25,00")[1].Value!.AsString().ShouldBe("%a%");
        byte[] wide = [.. Encoding.Unicode.Preamble, .. Encoding.Unicode.GetBytes("Windows Registry Editor Version 5.00\n[HKEY_CURRENT_USER\\Ä]")];
        RegistryText.Read(wide).Single().Key.ShouldBe(@"HKEY_CURRENT_USER\Ä");
        RegistryText.Read([.. "REGEDIT4\n[A\\"u8, 0xC4, .. "]"u8]).Single().Key.ShouldBe(@"A\Ä");
    }

    [Theory]
    [InlineData("", "does not begin with")]
    [InlineData("Windows Registry Editor Version 6.00", "does not begin with")]
    [InlineData("REGEDIT4\n\"x\"=\"y\"", "has at line 2 a value that belongs to no key")]
    [InlineData("REGEDIT4\n[A\n", "has at line 2 a key without its closing bracket")]
    [InlineData("REGEDIT4\n[A\\\\B]\n", "has at line 2 a key that is not a path")]
    [InlineData("REGEDIT4\n[A]\n\"x", "has at line 3 a text without its closing quotation mark")]
    [InlineData("REGEDIT4\n[A]\nx=1", "has at line 3 a text without its closing quotation mark")]
    [InlineData("REGEDIT4\n[A]\n\"x\"", "has at line 3 a value without '='")]
    [InlineData("REGEDIT4\n[A]\n\"x\"=word:1", "has at line 3 data of an unknown kind")]
    [InlineData("REGEDIT4\n[A]\n\"x\"=dword:xyz", "has at line 3 a dword that is not a hexadecimal number")]
    [InlineData("REGEDIT4\n[A]\n\"x\"=hex:1,zz", "has at line 3 an invalid byte: 'zz'")]
    [InlineData("REGEDIT4\n[A]\n\"x\"=\"y\" z", "has at line 3 something after the text")]
    [InlineData("REGEDIT4\n[-A]\n\"x\"=\"y\"", "has at line 3 a value that belongs to no key")]
    public void What_is_none_is_refused_with_its_line(string text, string message) =>
        Should.Throw<InvalidDataException>(() => Read(text)).Message.ShouldContain(message);

    [Fact]
    public void What_is_written_is_read_back()
    {
        var name = Gen.String[Gen.Char[' ', '~'], 0, 20];
        var value = Gen.OneOf(
            Gen.Select(name, name, (n, t) => HiveValue.FromString(n, t)),
            Gen.Select(name, Gen.UInt, HiveValue.FromDWord),
            Gen.Select(name, Gen.ULong, HiveValue.FromQWord),
            Gen.Select(name, Gen.Byte.Array[0, 40], (n, b) => new HiveValue(n, HiveValueType.Binary, b)),
            Gen.Select(name, Gen.String[0, 10].Array[0, 3],
            (n, t) => HiveValue.FromStrings(n, t.Select(x => x.Replace("\0", "", StringComparison.Ordinal)))));
        value.Array[0, 6].Sample(values =>
        {
            var statements = values.Select(v => new RegistryStatement(0, RegistryAction.SetValue, @"HKEY_LOCAL_MACHINE\SOFTWARE\Ferry", v));
            RegistryText.Read(RegistryText.Write(statements, "two\nlines")).Where(s => s.Value is not null).Select(s => s.Value).ShouldBe(values);
        });
    }

    [Fact]
    public void Another_program_reads_what_is_written()
    {
        using var folder = new Moorfield.Tests.TemporaryFolder();
        byte[] text = RegistryText.Write(
            [new RegistryStatement(0, RegistryAction.SetValue, @"HKEY_LOCAL_MACHINE\SOFTWARE\Ferry", HiveValue.FromDWord("Off", 1)),
             new RegistryStatement(0, RegistryAction.AddKey, @"HKEY_LOCAL_MACHINE\SOFTWARE\Ferry\Blocked", null)], "x");
        string hive = folder.Write("hive", MinimalHive.Create("ROOT", DateTimeOffset.UnixEpoch));
        string plain = folder.Write("a.reg", Encoding.UTF8.GetBytes(Encoding.Unicode.GetString(text)[1..]));
        Moorfield.Tests.Tool.Read("hivexregedit", "--merge", hive, plain, "--prefix", @"HKEY_LOCAL_MACHINE\SOFTWARE");
        string back = Moorfield.Tests.Tool.Read("hivexregedit", "--export", hive, @"\Ferry");
        back.ShouldContain("\"Off\"=dword:00000001");
        back.ShouldContain(@"[\Ferry\Blocked]");
    }

    [Theory]
    [InlineData(HiveValueType.String, "plain \"text\"", "\"plain \\\"text\\\"\"")]
    [InlineData(HiveValueType.String, "a\nb", "hex(1):61,00,0a,00,62,00,00,00")]
    [InlineData(HiveValueType.ExpandString, "ab", "hex(2):61,00,62,00,00,00")]
    public void A_text_is_written_as_one_where_nothing_of_it_is_lost(HiveValueType type, string text, string expected)
    {
        string written = Encoding.Unicode.GetString(RegistryText.Write(
            [new RegistryStatement(1, RegistryAction.SetValue, @"HKEY_LOCAL_MACHINE\A", HiveValue.FromString("x", text, type))], "made up"));
        written.ReplaceLineEndings("\n").ShouldContain($"\n\"x\"={expected}\n");
    }
}
