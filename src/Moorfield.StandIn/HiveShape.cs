using System.Globalization;
using System.Security.Cryptography;
using System.Text.Json;
using System.Text.RegularExpressions;

namespace Moorfield.StandIn;

/// <summary>Windows' entries for packages in its hives, as <c>demo/shapes.json</c> describes them.</summary>
/// <param name="SystemFolder">Folder of a part of the system, below the volume's root: {name} or {family}.</param>
/// <param name="Roots">True if SOFTWARE says where packages lie.</param>
/// <param name="OtherArchitectures">Further architectures whose frameworks are listed in the entries of packages, whether present or not.</param>
/// <param name="Software">Entries of the machine, for each provisioned package.</param>
/// <param name="Classes">Entries of an account's UsrClass.dat, for each application.</param>
/// <param name="User">Entries of an account's NTUSER.DAT, for each application.</param>
public sealed record HiveShape(
    string SystemFolder, bool Roots, ImmutableArray<string>? OtherArchitectures, ImmutableArray<ShapeEntry> Software,
    ImmutableArray<ShapeEntry> Classes, ImmutableArray<ShapeEntry> User)
{
    private static readonly Lazy<Shapes> All = new(() =>
    {
        using var stream = typeof(HiveShape).Assembly.GetManifestResourceStream("shapes.json")!;
        return JsonSerializer.Deserialize(stream, WorldJson.Default.Shapes)!;
    });

    /// <summary>The shape of the demo.</summary>
    public static HiveShape Usual => All.Value.Usual;

    /// <summary>As full as the hives of an old machine are.</summary>
    public static HiveShape Older => All.Value.Older;

    /// <summary>The folder of a part of the system, with backslashes.</summary>
    internal string FolderOf(PackageFullName part) => SystemFolder.Replace("{name}", part.Name, StringComparison.Ordinal)
        .Replace("{family}", part.Family.ToString(), StringComparison.Ordinal);
}

/// <summary>The shapes of hives that there are.</summary>
public sealed record Shapes(HiveShape Usual, HiveShape Older);

/// <summary>Keys of one kind.</summary>
/// <param name="Key">With {…} for what differs.</param>
/// <param name="Each">The items that each have one: nothing (an application), link, type, or any, anyLink, anyType (one if there is any).</param>
/// <param name="Count">How many: {n} counts them; one when it is 0.</param>
/// <param name="Values">By name: text, expand, list, dword, qword, binary (of so many bytes), and the content.</param>
public sealed record ShapeEntry(string Key, string? Each, int Count, ImmutableDictionary<string, string>? Values);

/// <summary>Writes what a shape has of one application.</summary>
/// <param name="opens">File types with their dot, and schemes.</param>
internal sealed partial class ShapeWriter(PackageFullName package, string app, ImmutableArray<string> opens)
{
    internal void Write(Hive hive, IEnumerable<ShapeEntry> entries)
    {
        foreach (var entry in entries)
        {
            IEnumerable<string> each = entry.Each switch
            {
                null => [""],
                "link" => opens.Where(o => !o.StartsWith('.')),
                "type" => opens.Where(o => o.StartsWith('.')),
                "any" => opens.Take(1),
                "anyLink" => opens.Where(o => !o.StartsWith('.')).Take(1),
                "anyType" => opens.Where(o => o.StartsWith('.')).Take(1),
                _ => throw new InvalidDataException($"shapes.json: '{entry.Each}' is nothing that there is one for"),
            };
            foreach (string what in each)
            {
                for (int n = 1; n <= Math.Max(1, entry.Count); n++)
                    RegistryLayout.Set(hive, Fill(entry.Key, what, n), [.. (entry.Values ?? ImmutableDictionary<string, string>.Empty)
                        .OrderBy(v => v.Key, StringComparer.Ordinal).Select(v => Value(Fill(v.Key, what, n), v.Value, what, n))]);
            }
        }
    }

    private HiveValue Value(string name, string written, string what, int n)
    {
        string type = written.Split(' ')[0], content = Fill(written[type.Length..].TrimStart(), what, n);
        return type switch
        {
            "text" => HiveValue.FromString(name, content),
            "expand" => HiveValue.FromString(name, content, HiveValueType.ExpandString),
            "list" => HiveValue.FromStrings(name, content.Split('|')),
            "dword" => HiveValue.FromDWord(name, uint.Parse(content, CultureInfo.InvariantCulture)),
            "qword" => HiveValue.FromQWord(name, ulong.Parse(content, CultureInfo.InvariantCulture)),
            "binary" => new HiveValue(name, HiveValueType.Binary, Filler.Bytes($"{package}/{name}/{n}", int.Parse(content,
                CultureInfo.InvariantCulture))),
            _ => throw new InvalidDataException($"shapes.json: there are no values of type '{type}'"),
        };
    }

    private string Fill(string text, string what, int n) => Marks().Replace(text, mark => mark.Groups["kind"].Value switch
    {
        "full" => package.ToString(),
        "family" => package.Family.ToString(),
        "small" => package.Family.ToString().ToLowerInvariant(),
        "name" => package.Name,
        "app" => app,
        "what" => what,
        "n" => n.ToString(CultureInfo.InvariantCulture),
        "container" => Container(),
        "settings" => @"Local Settings\Software\Microsoft\Windows\CurrentVersion",
        "own" => @"Software\Microsoft\Windows\CurrentVersion",
        "id" => new Guid(SHA256.HashData(Encoding.UTF8.GetBytes($"{package}/{app}/{mark.Groups["of"]}/{n}"))[..16]).ToString("B")
            .ToUpperInvariant(),
        "progid" => RegistryLayout.ProgId($"{package.Family}!{app}" + mark.Groups["of"].Value switch
        {
            "" => "",
            "what" => $"/{what}",
            var of => $"/{of}",
        }),
        var other => throw new InvalidDataException($"shapes.json: '{other}' stands for nothing"),
    });

    /// <summary>The SID of the family's app container.</summary>
    private string Container()
    {
        byte[] hash = SHA256.HashData(Encoding.Unicode.GetBytes(package.Family.ToString().ToLowerInvariant()));
        return "S-1-15-2" + string.Concat(Enumerable.Range(0, 7).Select(i => $"-{BitConverter.ToUInt32(hash, i * 4)}"));
    }

    [GeneratedRegex(@"\{(?<kind>[a-z]+)(:(?<of>[a-z]+))?\}", RegexOptions.ExplicitCapture, 10_000)]
    private static partial Regex Marks();
}
