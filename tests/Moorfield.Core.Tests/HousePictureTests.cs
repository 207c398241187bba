using System.Globalization;
using System.Runtime.CompilerServices;
using System.Text;
using System.Text.RegularExpressions;

namespace Moorfield.Core.Tests;

/// <summary>The picture in docs/architecture.md: which room uses which, drawn from the sources. MOORFIELD_WRITE_PICTURE=1 draws it anew.</summary>
public sealed class HousePictureTests
{
    private const int Cell = 34, Names = 190, Top = 150, Legend = 46;

    private static readonly TimeSpan Limit = TimeSpan.FromSeconds(10);

    // From the top down.
    private static readonly string[] Rooms =
        ["Cli", "Reporting", "HandOver", "Operations", "Fleets", "Targets", "Transactions", "Planning", "Vaults", "Selection",
            "Assessment", "Reading", "Disks", "Images", "Trees", "Storage", "Layout", "Model", "Formats"];

    private static string Repository([CallerFilePath] string here = "") => Path.GetFullPath(Path.Combine(Path.GetDirectoryName(here)!, "../.."));

    private static string RoomOf(string file)
    {
        string[] parts = file.Split('/');
        return parts[0] == "Moorfield.Core" ? parts[1] : parts[0]["Moorfield.".Length..];
    }

    [Fact]
    public void The_picture_is_as_the_code_is_and_nothing_uses_what_is_above_it()
    {
        string sources = Path.Combine(Repository(), "src");
        var files = Directory.EnumerateFiles(sources, "*.cs", SearchOption.AllDirectories).Select(f => Path.GetRelativePath(sources, f))
            .Where(f => !f.Contains("/obj/", StringComparison.Ordinal) && !f.Contains("/bin/", StringComparison.Ordinal)
                && Rooms.Contains(RoomOf(f)))
            .ToList();
        var uses = files.SelectMany(f => Named(sources, f)
                .Select(n => (From: RoomOf(f), To: RoomOf(n.Replace('.', '/').Replace("Moorfield/", "Moorfield.", StringComparison.Ordinal))))
                .Where(u => u.From != u.To && u.To != "Model" && Rooms.Contains(u.To)).Distinct())
            .GroupBy(u => u).ToDictionary(g => g.Key, g => g.Count());
        uses.Count.ShouldBeGreaterThan(60);
        uses.Keys.Where(u => Array.IndexOf(Rooms, u.To) < Array.IndexOf(Rooms, u.From)).ShouldBeEmpty();

        string picture = Draw(uses, Rooms.ToDictionary(r => r, r => files.Count(f => RoomOf(f) == r)));
        string path = Path.Combine(Repository(), "docs/architecture.svg");
        if (Environment.GetEnvironmentVariable("MOORFIELD_WRITE_PICTURE") == "1")
            File.WriteAllText(path, picture);
        (File.Exists(path) && File.ReadAllText(path) == picture).ShouldBeTrue(
            "docs/architecture.svg is not what the code is now: run this test with MOORFIELD_WRITE_PICTURE=1.");
    }

    /// <summary>
    /// The namespaces that a file uses: those of its using directives, of which it needs each, and those that its whole project uses and of
    /// which it names a type.
    /// </summary>
    private static IEnumerable<string> Named(string sources, string file)
    {
        string text = File.ReadAllText(Path.Combine(sources, file)), project = file.Split('/')[0];
        var words = Regex.Matches(text, @"\w+", RegexOptions.None, Limit).Select(m => m.Value).ToHashSet(StringComparer.Ordinal);
        var global = Regex.Matches(File.ReadAllText(Path.Combine(sources, project, $"{project}.csproj")),
            @"<Using Include=""(?<name>Moorfield[\w.]+)""", RegexOptions.ExplicitCapture, Limit)
            .Select(m => m.Groups["name"].Value).Where(n => Types(sources, n).Overlaps(words));
        return Regex.Matches(text, @"^using (static )?(?<name>Moorfield[\w.]+);", RegexOptions.Multiline | RegexOptions.ExplicitCapture, Limit)
            .Select(m => m.Groups["name"].Value).Concat(global);
    }

    private static readonly Dictionary<string, HashSet<string>> Known = [];

    private static HashSet<string> Types(string sources, string space)
    {
        string[] parts = space.Split('.');
        string folder = Path.Combine([sources, $"{parts[0]}.{parts[1]}", .. parts[2..]]);
        return Known.TryGetValue(space, out var known) ? known
            : Known[space] = [.. Directory.EnumerateFiles(folder, "*.cs").SelectMany(f => Regex.Matches(File.ReadAllText(f),
                @"^(public|internal)[\w ]* (class|struct|interface|enum|record) (?<name>\w+)",
                RegexOptions.Multiline | RegexOptions.ExplicitCapture, Limit).Select(m => m.Groups["name"].Value))];
    }

    private static string Draw(Dictionary<(string From, string To), int> uses, Dictionary<string, int> sizes)
    {
        var svg = new StringBuilder();
        int width = Names + Rooms.Length * Cell + 20, height = Top + Rooms.Length * Cell + Legend;
        Line($"<svg xmlns='http://www.w3.org/2000/svg' width='{width}' height='{height}' font-family='sans-serif' font-size='13' role='img'>");
        Line($"<title>Which room uses which</title><rect width='{width}' height='{height}' fill='#fff'/>");
        for (int i = 0; i < Rooms.Length; i++)
        {
            int at = i * Cell;
            Line($"<rect x='0' y='{Top + at}' width='{width - 20}' height='{Cell}' fill='{(i % 2 == 0 ? "#f4f6f8" : "#fff")}'/>");
            Line($"<text x='{Names - 10}' y='{Top + at + 22}' text-anchor='end'>{Rooms[i]} <tspan fill='#777'>{sizes[Rooms[i]]} files</tspan></text>");
            int x = Names + at + 21;
            Line($"<text x='{x}' y='{Top - 10}' transform='rotate(-60 {x} {Top - 10})'>{Rooms[i]}</text>");
            Line($"<rect x='{Names + at + 4}' y='{Top + at + 4}' width='{Cell - 8}' height='{Cell - 8}' rx='4' fill='#44546a'/>");
        }
        foreach (var ((from, to), count) in uses.OrderBy(u => Array.IndexOf(Rooms, u.Key.From)).ThenBy(u => Array.IndexOf(Rooms, u.Key.To)))
        {
            int x = Names + Array.IndexOf(Rooms, to) * Cell, y = Top + Array.IndexOf(Rooms, from) * Cell;
            string shade = (0.12 + 0.6 * Math.Min(1, count / 20.0)).ToString("0.00", CultureInfo.InvariantCulture);
            Line($"<rect x='{x + 2}' y='{y + 2}' width='{Cell - 4}' height='{Cell - 4}' rx='4' fill='#2e74b5' fill-opacity='{shade}'/>");
            Line($"<text x='{x + Cell / 2}' y='{y + 22}' text-anchor='middle'>{count}</text>");
        }
        const string Explanation = "Each number: how many files of the room on the left use the room at the top. All use Model.";
        Line($"<text x='10' y='{height - 16}' fill='#555'>{Explanation}</text>");
        svg.Append("</svg>\n");
        return svg.ToString();

        void Line(FormattableString text) => svg.Append(FormattableString.Invariant(text)).Append('\n');
    }
}
