using System.Xml;
using System.Xml.Linq;

namespace Moorfield.Formats.Wim;

/// <summary>The XML data's description of one image. Texts are empty and numbers zero when it has none.</summary>
/// <param name="Number">From 1.</param>
/// <param name="Architecture">x86, x64, arm, arm64, or the bare number.</param>
/// <param name="Version">Major.minor.build.revision, as far as given.</param>
/// <param name="Bytes">In all files.</param>
/// <param name="Modified">Null when not given.</param>
public sealed record ImageInfo(
    int Number, string Name, string Description, string ProductName, string EditionId, string InstallationType, string Architecture, string Version,
    ImmutableArray<string> Languages, long Folders, long Files, long Bytes, long HardLinkBytes, DateTime? Modified);

/*
   UTF-16LE with a byte order mark: WIM/TOTALBYTES, then IMAGE INDEX="n" with DIRCOUNT, FILECOUNT, TOTALBYTES, HARDLINKBYTES, CREATIONTIME
   and LASTMODIFICATIONTIME (HIGHPART and LOWPART, hexadecimal), NAME, DESCRIPTION and WINDOWS. Elements that are not understood stay.
*/

/// <summary>The XML data of a WIM. Source: docs/wim-format.md, "XML data" [doc].</summary>
public sealed class WimXml
{
    private const int MaxCharacters = 64 << 20;
    private readonly XDocument _document;

    private WimXml(XDocument document) => _document = document;

    private XElement Root => _document.Root!;

    /// <summary>True if it says that the contents are encrypted, as some ESD files are. [doc: wimlib]</summary>
    internal bool IsEncrypted => Root.Element("ESD")?.Element("ENCRYPTED") is not null;

    internal static WimXml Empty() => new(new XDocument(new XElement("WIM", new XElement("TOTALBYTES", "0"))));

    /// <exception cref="InvalidDataException">No well-formed XML in UTF-16, or its root is not WIM.</exception>
    internal static WimXml Read(byte[] bytes)
    {
        try
        {
            var settings = new XmlReaderSettings { DtdProcessing = DtdProcessing.Prohibit, XmlResolver = null,
            MaxCharactersInDocument = MaxCharacters };
            string text = new UnicodeEncoding(bigEndian: false, byteOrderMark: false, throwOnInvalidBytes: true).GetString(bytes)
                .TrimStart('\ufeff').TrimEnd('\0');
            using var reader = XmlReader.Create(new StringReader(text), settings);
            var document = XDocument.Load(reader, LoadOptions.PreserveWhitespace);
            return document.Root?.Name.LocalName == "WIM" ? new WimXml(document)
                : throw new InvalidDataException("is damaged: its XML data does not begin with the element WIM");
        }
        catch (Exception e) when (e is XmlException or ArgumentException)
        {
            throw new InvalidDataException($"is damaged: its XML data is malformed ({e.Message})", e);
        }
    }

    internal byte[] ToArray() => [0xFF, 0xFE, .. Encoding.Unicode.GetBytes(_document.ToString(SaveOptions.DisableFormatting))];

    internal WimXml Copy() => new(new XDocument(_document));

    /// <summary>The description of an image; an almost empty record without one.</summary>
    /// <param name="number">From 1.</param>
    public ImageInfo Image(int number)
    {
        var image = Find(number);
        var windows = image?.Element("WINDOWS");
        var version = windows?.Element("VERSION");
        string name = Text(image, "NAME");
        return new ImageInfo(
            number, name.Length > 0 ? name : Text(image, "DISPLAYNAME"), Text(image, "DESCRIPTION"), Text(windows, "PRODUCTNAME"),
            Text(windows, "EDITIONID"), Text(windows, "INSTALLATIONTYPE"), Architecture(Text(windows, "ARCH")),
            string.Join('.', new[] { "MAJOR", "MINOR", "BUILD", "SPBUILD" }.Select(part => Text(version, part)).TakeWhile(part => part.Length > 0)),
            [.. (windows?.Element("LANGUAGES")?.Elements("LANGUAGE") ?? []).Select(l => l.Value.Trim())], Number(image, "DIRCOUNT"),
            Number(image, "FILECOUNT"), Number(image, "TOTALBYTES"), Number(image, "HARDLINKBYTES"), Time(image?.Element("LASTMODIFICATIONTIME")));
    }

    /// <summary>Adds the difference that a change makes to an image's totals, and the time of the change.</summary>
    internal void Change(int number, ImageTotals before, ImageTotals after, DateTime modified)
    {
        var image = Find(number);
        if (image is null)
            return;
        Add(image, "DIRCOUNT", after.Folders - before.Folders);
        Add(image, "FILECOUNT", after.Files - before.Files);
        Add(image, "TOTALBYTES", after.Bytes - before.Bytes);
        if (image.Element("HARDLINKBYTES") is not null || after.HardLinkBytes != before.HardLinkBytes)
            Add(image, "HARDLINKBYTES", after.HardLinkBytes - before.HardLinkBytes);
        SetTime(image, "LASTMODIFICATIONTIME", modified);
    }

    /// <summary>Adds an image after the last.</summary>
    internal void AddImage(ImageInfo info, ImageTotals totals)
    {
        var image = new XElement("IMAGE", new XAttribute("INDEX", info.Number), new XElement("DIRCOUNT", totals.Folders),
        new XElement("FILECOUNT", totals.Files), new XElement("TOTALBYTES", totals.Bytes), new XElement("HARDLINKBYTES", totals.HardLinkBytes));
        SetTime(image, "CREATIONTIME", info.Modified!.Value);
        SetTime(image, "LASTMODIFICATIONTIME", info.Modified.Value);
        string[] version = info.Version.Split('.');
        image.Add(
            new XElement("WINDOWS", new XElement("ARCH", Array.IndexOf(Architectures, info.Architecture)),
                new XElement("PRODUCTNAME", info.ProductName), new XElement("EDITIONID", info.EditionId),
                new XElement("INSTALLATIONTYPE", info.InstallationType),
                new XElement("LANGUAGES", info.Languages.Select(l => new XElement("LANGUAGE", l)), new XElement("DEFAULT", info.Languages[0])),
                new XElement("VERSION", new[] { "MAJOR", "MINOR", "BUILD", "SPBUILD" }.Zip(version, (part, value) => new XElement(part, value)))),
            new XElement("NAME", info.Name), new XElement("DESCRIPTION", info.Description));
        Root.Add(image);
    }

    /// <summary>Takes out what is said of images, and numbers the others again.</summary>
    /// <param name="dropped">Numbers.</param>
    internal void DropImages(IReadOnlySet<int> dropped, int count)
    {
        foreach (var image in dropped.Select(Find).OfType<XElement>().ToList())
        {
            if (image.PreviousNode is XText)
                image.PreviousNode.Remove();
            image.Remove();
        }
        int number = 0;
        foreach (var (image, next) in Enumerable.Range(1, count).Where(n => !dropped.Contains(n)).Select(n => (Find(n), ++number)).ToList())
            image?.SetAttributeValue("INDEX", next.ToString(CultureInfo.InvariantCulture));
    }

    /// <summary>Gives an image another name or description; the one for display as well, where it is the same.</summary>
    /// <param name="name">Null to leave it.</param>
    /// <param name="description">Null to leave it.</param>
    /// <exception cref="InvalidDataException">Nothing is said of the image.</exception>
    internal void Rename(int number, string? name, string? description, DateTime modified)
    {
        var image = Find(number) ?? throw new InvalidDataException($"says nothing of its image {number}, so that there is nothing to rename");
        Put("NAME", name);
        Put("DESCRIPTION", description);
        SetTime(image, "LASTMODIFICATIONTIME", modified);

        void Put(string element, string? text)
        {
            if (text is null)
                return;
            string old = Text(image, element);
            if (image.Element("DISPLAY" + element) is { } shown && shown.Value.Trim() == old)
                shown.Value = text;
            if (image.Element(element) is { } found)
                found.Value = text;
            else
                image.Add(new XElement(element, text));
        }
    }

    /// <summary>Sets the bytes of the whole file, without XML data and integrity table.</summary>
    internal void SetTotal(long bytes) => Set(Root, "TOTALBYTES", bytes.ToString(CultureInfo.InvariantCulture));

    private static readonly string[] Architectures = ["x86", "", "", "", "", "arm", "ia64", "", "", "x64", "", "", "arm64"];

    private static string Architecture(string number) =>
        int.TryParse(number, CultureInfo.InvariantCulture, out int index) && index >= 0 && index < Architectures.Length
            && Architectures[index].Length > 0 ? Architectures[index] : number;

    private XElement? Find(int number) =>
    Root.Elements("IMAGE").FirstOrDefault(i => i.Attribute("INDEX")?.Value.Trim() == number.ToString(CultureInfo.InvariantCulture));

    private static string Text(XElement? parent, string name) => parent?.Element(name)?.Value.Trim() ?? "";

    private static long Number(XElement? parent, string name) =>
    long.TryParse(Text(parent, name), CultureInfo.InvariantCulture, out long number) ? number : 0;

    private static DateTime? Time(XElement? element)
    {
        if (!Part("HIGHPART", out uint high) || !Part("LOWPART", out uint low))
            return null;
        long time = (long)(((ulong)high << 32) | low);
        return time >= 0 && time <= DateTime.MaxValue.ToFileTimeUtc() ? DateTime.FromFileTimeUtc(time) : null;

        bool Part(string name, out uint value)
        {
            string text = Text(element, name);
            return uint.TryParse(text.StartsWith("0x", StringComparison.OrdinalIgnoreCase) ? text.AsSpan(2) : text, NumberStyles.HexNumber,
                CultureInfo.InvariantCulture, out value);
        }
    }

    private static void SetTime(XElement image, string name, DateTime time)
    {
        long value = time.ToFileTimeUtc();
        var element = image.Element(name);
        if (element is null)
            image.Add(element = new XElement(name));
        Set(element, "HIGHPART", $"0x{value >> 32:X8}");
        Set(element, "LOWPART", $"0x{value & 0xFFFFFFFF:X8}");
    }

    private static void Add(XElement image, string name, long difference) =>
        Set(image, name, Math.Max(0, Number(image, name) + difference).ToString(CultureInfo.InvariantCulture));

    private static void Set(XElement parent, string name, string value)
    {
        if (parent.Element(name) is { } element)
            element.Value = value;
        else
            parent.AddFirst(new XElement(name, value));
    }
}
