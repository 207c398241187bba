using System.Text.RegularExpressions;
using Moorfield.Core.Layout;
using Moorfield.Core.Trees;

namespace Moorfield.Core.Reading;

/// <summary>
/// How a system's places of packages are laid out, and nothing of the people whose it is: names only where Windows itself gives them, every other
/// as its length and the kinds of its characters; types and sizes in place of contents.
/// </summary>
internal static partial class HiveFacts
{
    private const int MaxDepth = 14, MaxKeys = 300_000, MaxShapes = 150;

    /// <summary>The first line of what is written.</summary>
    internal const string Heading = "moorfield facts 1";

    /// <summary>The facts of a system, a line each.</summary>
    /// <exception cref="MoorfieldException">No Windows there, or its SOFTWARE hive cannot be read, or a hive is damaged within.</exception>
    internal static ImmutableArray<string> Read(WindowsTree tree)
    {
        var system = MachineRegistry.Read(tree, new SnapshotNotes(), []);
        var lines = ImmutableArray.CreateBuilder<string>();
        lines.Add(Heading);
        lines.Add($"Windows: build {(NumberText().IsMatch(system.Build) ? system.Build : "not known")}, "
            + $"{(system.Architecture.Length > 0 ? system.Architecture : "architecture not known")}");
        var profiles = system.Accounts.Select(a => a.Profile).OfType<WindowsPath>().ToList();
        Add("SOFTWARE", PlaceContainer.Software, [Places.Software]);
        Add("UsrClass.dat", PlaceContainer.Classes, profiles.Select(Places.Classes));
        Add("NTUSER.DAT", PlaceContainer.UserHive, profiles.Append(Places.DefaultProfile).Select(Places.UserHive));
        foreach (var place in PackagePlaces.All.Where(p => p.Container == PlaceContainer.Folder))
        {
            var folders = place.Scope == TraceScope.Account ? profiles.Select(place.Folder) : [place.Folder(system.Roots)];
            var node = new Node();
            foreach (string name in folders.SelectMany(tree.List))
                node.Below(name).Count++;
            lines.Add($"folder of '{place.Id}'");
            node.Write(lines, 1);
        }
        return lines.ToImmutable();

        void Add(string name, PlaceContainer container, IEnumerable<WindowsPath> hives)
        {
            var (node, read, formats) = (new Node(), 0, new SortedSet<string>(StringComparer.Ordinal));
            foreach (var path in hives)
            {
                using var hive = Open(path);
                if (hive is null)
                    continue;
                read++;
                formats.Add($"1.{hive.Header.Minor}");
                int left = MaxKeys;
                try
                {
                    foreach (string root in Roots(container))
                    {
                        var key = hive.Find(root);
                        if (key is not null)
                            Collect(key.Value, root.Split('\\').Aggregate(node, (n, word) => n.Below(word)), 0, ref left);
                    }
                }
                catch (InvalidDataException e)
                {
                    throw HiveFile.Damaged(tree, path, e);
                }
            }
            lines.Add($"{name}: {read} read{(formats.Count > 0 ? $", format {string.Join(" and ", formats)}" : "")}");
            node.Write(lines, 1);
        }

        Hive? Open(WindowsPath path)
        {
            try
            {
                return HiveFile.OpenRead(tree, path, new SnapshotNotes());
            }
            catch (MoorfieldException)
            {
                return null; // as every reading of the system reports
            }
        }
    }

    /// <summary>The keys that are looked below: those of the table, and those where Windows keeps what is not in it.</summary>
    private static List<string> Roots(PlaceContainer container)
    {
        var all = HiveNotes.RootsIn(container).Concat(PackagePlaces.All.Where(p => p.Container == container && p.Path.Length > 0)
            .Select(p => p.Path.Split([@"\{", @"\*"], StringSplitOptions.None)[0])).Distinct(StringComparer.OrdinalIgnoreCase).ToList();
        return [.. all.Where(r => !all.Exists(o => r.StartsWith(o + '\\', StringComparison.OrdinalIgnoreCase))).Order(StringComparer.Ordinal)];
    }

    private static void Collect(HiveKey key, Node node, int depth, ref int left)
    {
        node.Count++;
        foreach (var value in key.Values())
            node.Add(value);
        foreach (var child in depth < MaxDepth ? key.Children() : [])
        {
            if (left-- <= 0)
                return;
            Collect(child, node.Below(child.Name), depth + 1, ref left);
        }
    }

    [GeneratedRegex(@"^\d{1,6}(\.\d{1,6})?$", RegexOptions.ExplicitCapture, 1000)]
    private static partial Regex NumberText();

    /// <summary>How many names there are of a shape, and how long they are.</summary>
    private struct Lengths
    {
        private int _least, _most;

        internal int Count { get; private set; }

        internal void Add(int length)
        {
            (_least, _most) = Count++ == 0 ? (length, length) : (Math.Min(_least, length), Math.Max(_most, length));
        }

        public override readonly string ToString() => _least == _most ? $"{_least}" : $"{_least} to {_most}";
    }

    /// <summary>Keys of one shape.</summary>
    private sealed class Node
    {
        private readonly SortedDictionary<string, Node> _below = new(StringComparer.Ordinal);
        private readonly SortedDictionary<(string Shape, string Type), (Lengths Names, Lengths Sizes)> _values = [];
        private Lengths _names;

        internal int Count { get; set; }

        /// <summary>The keys of a name's shape below; past the limit they are all one.</summary>
        internal Node Below(string name)
        {
            string shape = FactWords.Shape(name);
            if (!_below.ContainsKey(shape) && _below.Count >= MaxShapes)
                shape = More;
            if (!_below.TryGetValue(shape, out var node))
                _below[shape] = node = new Node();
            node._names.Add(name.Length);
            return node;
        }

        internal void Add(HiveValue value)
        {
            string type = Enum.IsDefined(value.Type) ? value.Type.ToString() : $"type {(uint)value.Type}";
            var place = (value.Name.Length == 0 ? "(default)" : FactWords.Shape(value.Name), type);
            if (!_values.ContainsKey(place) && _values.Count >= MaxShapes)
                place = (More, type);
            var (names, sizes) = _values.GetValueOrDefault(place);
            names.Add(value.Name.Length);
            sizes.Add(value.Data.Length);
            _values[place] = (names, sizes);
        }

        internal void Write(ImmutableArray<string>.Builder lines, int depth)
        {
            string indent = new(' ', depth * 2);
            foreach (var ((shape, type), (names, sizes)) in _values)
                lines.Add($"{indent}= {Describe(shape, names)}: {type}, {sizes} bytes{Times(sizes.Count)}");
            foreach (var (shape, node) in _below)
            {
                // A path without anything else on it is one line.
                var (path, end) = (Describe(shape, node._names), node);
                while (end._below.Count == 1 && end._values.Count == 0 && end.Count == end._below.First().Value.Count)
                {
                    var (next, below) = end._below.First();
                    (path, end) = ($@"{path}\{Describe(next, below._names)}", below);
                }
                lines.Add($"{indent}{path}{Times(end.Count)}");
                end.Write(lines, depth + 1);
            }
        }

        private const string More = "{more}";

        private static string Describe(string shape, Lengths names) =>
            shape.StartsWith(FactWords.Other, StringComparison.Ordinal) ? $"{{{names} {shape}}}" : shape;

        private static string Times(int count) => count > 1 ? $" × {count}" : "";
    }
}
