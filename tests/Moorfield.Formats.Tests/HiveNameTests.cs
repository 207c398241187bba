using System.Text;
using Moorfield.Formats.Hives;
using Moorfield.Tests;

namespace Moorfield.Formats.Tests;

/// <summary>Names that libhivex, which takes them as C strings, can read at most: with a NUL in them, and such as are no text.</summary>
public sealed class HiveNameTests : IDisposable
{
    private const char Mark = 'Z';
    private static readonly HiveValue One = HiveValue.FromString("One", "1");
    private readonly TemporaryFolder _folder = new(inMemory: true);

    private string Path => _folder["hive"];

    /// <summary>Makes a hive, and of every Z in its names a NUL, or in wide names half of a surrogate pair.</summary>
    private void Make(Action<Hive> fill, params string[] marked)
    {
        _folder.Write("hive", MinimalHive.Create("ROOT", DateTimeOffset.UnixEpoch));
        HiveEdit.Change(Path, fill);
        byte[] content = File.ReadAllBytes(Path);
        foreach (string name in marked)
        {
            bool isWide = name.Any(c => c > '\u00FF');
            byte[] written = (isWide ? Encoding.Unicode : Encoding.Latin1).GetBytes(name);
            int at = content.AsSpan().IndexOf(written);
            at.ShouldBeGreaterThan(0, name);
            int mark = at + (name.IndexOf(Mark, StringComparison.Ordinal) * (isWide ? 2 : 1));
            content[mark] = 0;
            if (isWide)
                content[mark + 1] = 0xD8;
        }
        File.WriteAllBytes(Path, content);
    }

    private T Read<T>(Func<Hive, T> read) => HiveEdit.Read(Path, read);

    [Fact]
    public void A_name_with_a_NUL_is_read_whole_and_is_not_taken_for_what_stands_before_it()
    {
        Make(hive =>
        {
            hive.Create(@"Store\StoreZtrap").Set(One);
            hive.Create(@"Store\Plain");
            hive.Create("Store").Set(HiveValue.FromString("PathZtrap", "wrong"));
        }, "StoreZtrap", "PathZtrap");
        Read(h => h.Find("Store")!.Value.Children().Select(k => k.Name).Order(StringComparer.Ordinal).ToList()).ShouldBe(["Plain", "Store\0trap"]);
        Read(h => h.Find(@"Store\Store") is null).ShouldBeTrue();
        Read(h => h.Find("Store\\Store\0trap") is null).ShouldBeTrue();
        Read(h => h.Find("Store")!.Value.Values().Single().Name).ShouldBe("Path\0trap");
        Read(h => h.Find("Store")!.Value.Value("Path")).ShouldBeNull();
        Read(h => h.Find("Store")!.Value.Value("Path\0trap")).ShouldBeNull();
        Read(h =>
        {
            h.Find("Store")!.Value.Export().IsWritable.ShouldBeFalse();
            return h.UnwritableNames.Order(StringComparer.Ordinal).ToList();
        }).ShouldBe(["Path\0trap", "Store\0trap"]);
    }

    [Fact]
    public void A_key_is_found_beside_one_that_begins_like_it()
    {
        Make(hive =>
        {
            hive.Create("NameZ1");
            hive.Create("Name").Set(One);
            hive.Create("Values").Set(HiveValue.FromString("OneZ", "wrong"));
            hive.Create("Values").Set(HiveValue.FromString("One", "right"));
        }, "NameZ1", "OneZ");
        Read(h => h.Find("NAME")!.Value.Value("one")!.AsString()).ShouldBe("1");
        Read(h => h.Find("Values")!.Value.Value("one")!.AsString()).ShouldBe("right");
    }

    [Fact]
    public void Names_that_are_no_text_hide_nothing()
    {
        Make(hive =>
        {
            hive.Create("A\u8239Z").Set(One);
            hive.Create("Plain").Set(One);
            hive.Create("Plain").Set(HiveValue.FromString("B\u8239Z", "2"));
            hive.Create("Plain").Set(HiveValue.FromString("Last", "3"));
        }, "A\u8239Z", "B\u8239Z");
        Read(h => h.Root.Children().Select(k => k.Name).Order(StringComparer.Ordinal).ToList()).ShouldBe(["Plain", "\uFFFD\0"]);
        Read(h => h.Find("Plain")!.Value.Value("Last")!.AsString()).ShouldBe("3");
        Read(h => h.Find("Plain")!.Value.Value("Missing")).ShouldBeNull();
        Read(h => h.Find("Missing") is null).ShouldBeTrue();
        Read(h => h.Find("\uFFFD\0") is null).ShouldBeTrue();
        Read(h =>
        {
            h.Root.Export().IsWritable.ShouldBeFalse();
            return h.UnwritableNames.ToList();
        }).ShouldBe(["\uFFFD\0"]);
    }

    [Fact]
    public void What_cannot_be_written_is_never_written()
    {
        Make(hive =>
        {
            hive.Create("Values").Set(HiveValue.FromString("OneZ", "1"));
            hive.Create("Other").Set(One);
        }, "OneZ");
        byte[] before = File.ReadAllBytes(Path);
        Should.Throw<IOException>(() => HiveEdit.Change(Path, h => h.Find("Values")!.Value.Set(One))).Message
            .ShouldBe("The key 'Values' has a value whose name holds a NUL or is not valid text: libhivex cannot write that.");
        Should.Throw<IOException>(() => HiveEdit.Change(Path, h => h.Find("Values")!.Value.Remove("Other")));
        Should.Throw<IOException>(() => HiveEdit.Change(Path, h => h.Root.Add("New\0name")));
        Should.Throw<IOException>(() => HiveEdit.Change(Path, h => h.Root.Import(new RecordedKey("New", [], [new RecordedKey("a\0b", [], [])]))));
        File.ReadAllBytes(Path).ShouldBe(before);
        HiveEdit.Change(Path, h => h.Find("Other")!.Value.Set(HiveValue.FromString("Two", "2")));
        Read(h => h.Find("Values")!.Value.Values().Single().Name).ShouldBe("One\0");
    }

    [Theory]
    [InlineData("Fähre")]
    [InlineData("船")]
    [InlineData("€uro \uD83D\uDEF3")]
    public void Other_names_are_whole(string name)
    {
        Make(hive => hive.Create(name).Set(HiveValue.FromString(name, "1")));
        Read(h => h.Root.Children().Single().Name).ShouldBe(name);
        Read(h => h.Find(name)!.Value.Value(name)!.AsString()).ShouldBe("1");
        Read(h =>
        {
            _ = h.Find(name)!.Value.Value("missing") ?? h.Find("missing")?.Value("");
            return h.UnwritableNames.Count + h.WithOddKeys.Count + h.WithOddValues.Count;
        }).ShouldBe(0);
    }

    [Fact]
    public void The_odd_names_of_a_hive_made_elsewhere_are_read()
    {
        File.Copy(Genuine.Path("hivex/special"), Path);
        Read(h => h.Root.Children().Select(k => k.Name).Order(StringComparer.Ordinal).ToList())
            .ShouldBe(["abcd_\u00E4\u00F6\u00FC\u00DF", "weird\u2122", "zero\0key"]);
        Read(h => h.Find("abcd_\u00E4\u00F6\u00FC\u00DF")!.Value.Values().Single().Name).ShouldBe("abcd_\u00E4\u00F6\u00FC\u00DF");
        Read(h => h.Find("weird\u2122")!.Value.Values().Single().Name).ShouldBe("symbols $\u00A3\u20A4\u20A7\u20AC");
        Read(h => h.Find("zero") is null).ShouldBeTrue();
        Read(h => h.Root.Children().Single(k => k.Name == "zero\0key").Values().Single().Name).ShouldBe("zero\0val");
        byte[] before = File.ReadAllBytes(Path);
        Should.Throw<IOException>(() => HiveEdit.Change(Path, h => h.Root.Children().Single(k => k.Name == "zero\0key").Set(One)));
        File.ReadAllBytes(Path).ShouldBe(before);
    }

    [Fact]
    public void Values_of_all_small_lengths_are_whole()
    {
        File.Copy(Genuine.Path("hivex/rlenvalue_test_hive"), Path);
        var values = Read(h => h.Find("ModerateValueParent")!.Value.Values());
        values.Select(v => $"{v.Data.Length}Bytes").ShouldBe(["3Bytes", "16Bytes", "30Bytes", "31Bytes", "32Bytes", "33Bytes"]);
        values.Select(v => v.Name).ShouldBe(values.Select(v => $"{v.Data.Length}Bytes"));
        HiveEdit.Change(Path, h => h.Find("ModerateValueParent")!.Value.Set(One));
        Read(h => h.Find("ModerateValueParent")!.Value.Values()).Take(6).ShouldBe(values);
    }

    public void Dispose() => _folder.Dispose();
}
