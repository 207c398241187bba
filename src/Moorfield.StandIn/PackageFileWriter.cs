using System.IO.Compression;
using System.Security.Cryptography;
using System.Xml.Linq;

namespace Moorfield.StandIn;

/// <summary>
/// Packs staged packages into package files, with block maps. The signature is filling: nobody signed it. Source: docs/on-disk.md, "Package
/// files" [doc].
/// </summary>
public static class PackageFileWriter
{
    private const string MapNamespace = "http://schemas.microsoft.com/appx/2010/blockmap";
    private static readonly DateTimeOffset Time = new(2026, 10, 5, 6, 30, 0, TimeSpan.Zero);

    /// <summary>Packs a package, or a bundle with its members, from a laid-out volume.</summary>
    /// <param name="volume">Root folder.</param>
    /// <param name="name">Name of the package.</param>
    /// <param name="path">The file to make; a bundle gets all members.</param>
    /// <exception cref="InvalidDataException">There is no such package.</exception>
    public static void Write(string volume, string name, string path)
    {
        var package = LaidOutPackage.ReadAll(volume).Where(p => p.Main.Name == name).MaxBy(p => p.Main.Version)
            ?? throw new InvalidDataException($"has no package {name}");
        using var file = File.Create(path);
        if (!package.Registered.IsBundle)
        {
            Write(Folder(volume, package.Main), [], file);
            return;
        }
        var members = new List<(string, byte[])>();
        string folder = Folder(volume, package.Registered);
        using (var manifest = File.OpenRead(Path.Combine(folder, "AppxMetadata", "AppxBundleManifest.xml")))
        {
            foreach (var member in AppxManifestReader.ReadBundle(manifest).Members)
            {
                using var packed = new MemoryStream();
                Write(Folder(volume, member.FullName), [], packed);
                members.Add((member.FileName, packed.ToArray()));
            }
        }
        Write(folder, members, file);
    }

    private static string Folder(string volume, PackageFullName part) => Path.Combine(volume, "Program Files", "WindowsApps", part.ToString());

    private static void Write(string folder, IReadOnlyList<(string Name, byte[] Content)> members, Stream to)
    {
        using var zip = new ZipArchive(to, ZipArchiveMode.Create, leaveOpen: true);
        var map = new XElement(XName.Get("BlockMap", MapNamespace), new XAttribute("HashMethod", "http://www.w3.org/2001/04/xmlenc#sha256"));
        foreach (var (name, content) in members)
            Add(zip, name, content, CompressionLevel.NoCompression);
        foreach (string file in Directory.EnumerateFiles(folder, "*", SearchOption.AllDirectories).Order(StringComparer.Ordinal))
        {
            string name = Path.GetRelativePath(folder, file);
            byte[] content = File.ReadAllBytes(file);
            if (name is "AppxSignature.p7x" or "AppxBlockMap.xml")
                continue;
            map.Add(new XElement(XName.Get("File", MapNamespace),
                new XAttribute("Name", name.Replace('/', '\\')), new XAttribute("Size", content.Length), new XAttribute("LfhSize", 30 + name.Length),
                content.Chunk(PackageArchive.BlockSize).Select(b => new XElement(XName.Get("Block", MapNamespace),
                    new XAttribute("Hash", Convert.ToBase64String(SHA256.HashData(b)))))));
            Add(zip, string.Join('/', name.Split('/').Select(Uri.EscapeDataString)), content, CompressionLevel.Optimal);
        }
        Add(zip, "AppxBlockMap.xml", System.Text.Encoding.UTF8.GetBytes(map.ToString()), CompressionLevel.Optimal);
        Add(zip, "[Content_Types].xml", "<Types xmlns=\"http://schemas.openxmlformats.org/package/2006/content-types\"/>"u8.ToArray(),
            CompressionLevel.Optimal);
        Add(zip, "AppxSignature.p7x", "PKCX made up"u8.ToArray(), CompressionLevel.Optimal);
    }

    private static void Add(ZipArchive zip, string name, byte[] content, CompressionLevel level)
    {
        var entry = zip.CreateEntry(name, level);
        entry.LastWriteTime = Time;
        using var stream = entry.Open();
        stream.Write(content);
    }
}
