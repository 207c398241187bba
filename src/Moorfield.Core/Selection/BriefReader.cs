using Moorfield.Core.Assessment;

namespace Moorfield.Core.Selection;

/// <summary>Another brief that one includes.</summary>
/// <param name="Place">A file next to it, or an address.</param>
/// <param name="Sha256">64 hexadecimal digits; null for a file.</param>
/// <param name="Source">File and line, for messages.</param>
internal sealed record BriefInclude(string Place, string? Sha256, string Source);

/// <summary>Reads the text of one brief. Every error gives file, line and column.</summary>
/// <param name="name">File or address.</param>
internal sealed class BriefReader(string name) : YamlReader(name)
{
    private static readonly string[] TopKeys = ["brief", "title", "for", "maker", "include", "remove", "keep", "block", "guard", "notes", "needs",
        "unlisted", "machines", "after"];
    private static readonly string[] MachineKeys = ["name", "maker", "product", "build", "site"];
    private static readonly string[] AfterKeys = ["brief", "done", "days"];
    private const int MaxDays = 3650;
    private static readonly string[] RuleKeys = ["package", "publisher", "origin", "role", "standing", "find", "larger-than", "smaller-than",
        "starts-with-windows", "runs-in-background", "kind", "because"];
    private static readonly string[] IncludeKeys = ["url", "sha256"];
    private static readonly string[] GuardKeys = ["hive", "key", "name", "type", "data", "family", "because"];

    private static readonly string[] KnownGuardKeys =
        ["guard", "says", "stops", "editions", "builds", "sure", "only-by-name", "absent", .. GuardKeys];
    private static readonly string[] ValueTypes = ["dword", "qword", "text", "expandable-text", "texts"];

    internal (Brief Brief, ImmutableArray<BriefInclude> Includes) Read(string text)
    {
        var root = YamlNode.Read(Name, text)
        ?? throw new MoorfieldException(ErrorKind.InvalidUsage, $"{Name} is empty. 'moorfield brief draft TARGET' writes a brief to start from.");
        var fields = Fields(root, "a brief", TopKeys);
        if (!fields.TryGetValue("brief", out var version) || Text(version) != "1")
            throw Error(version ?? root, "a brief begins with 'brief: 1', the version of the format");
        var blocks = Items(fields, "block").Select(n => (Node: n, Family: Family(n))).ToList();
        var guards = Items(fields, "guard").SelectMany(n => ReadGuards(n).Select(g => (Node: n, Guard: g))).ToList();
        var brief = new Brief(
            Name,
            fields.TryGetValue("title", out var title) ? Text(title) : null,
            Texts(fields, "for"),
            Rules(fields, "remove"),
            Rules(fields, "keep"),
            [.. blocks.Select(b => b.Family)],
            [.. guards.Select(g => g.Guard)],
            new Advice(
                [.. Map(fields, "notes").Select(f => new PackageNote(f.Key.Text, Text(f.Value)))],
                [.. Map(fields, "needs").Select(f => new PackageNeed(f.Key.Text, [.. TextsOf(f.Value)]))]))
        {
            Maker = fields.TryGetValue("maker", out var maker) ? Text(maker) : null,
            Unlisted = fields.TryGetValue("unlisted", out var unlisted) ? One<UnlistedPackages>(unlisted) : null,
            Machines = fields.TryGetValue("machines", out var machines) ? ReadMachines(machines) : null,
            After = fields.TryGetValue("after", out var after) ? ReadAfter(after) : null,
            Lines = [.. blocks.Select(b => new BriefLine($"{Name}:{b.Node.Line}", b.Family, null)),
                .. guards.Select(g => new BriefLine($"{Name}:{g.Node.Line}", null, g.Guard))],
        };
        return (brief, [.. Items(fields, "include").Select(Include)]);
    }

    private MachineConditions ReadMachines(YamlNode node)
    {
        var fields = Fields(node, "machines", MachineKeys);
        if (fields.Count == 0)
            throw Error(node, $"machines without a condition would be all; conditions are {string.Join(", ", MachineKeys)}");
        return new MachineConditions
        {
            Names = Texts(fields, "name"),
            Makers = Texts(fields, "maker"),
            Products = Texts(fields, "product"),
            Builds = Texts(fields, "build"),
            Sites = Texts(fields, "site"),
        };
    }

    private RingCondition ReadAfter(YamlNode node)
    {
        var fields = Fields(node, "after", AfterKeys);
        if (!fields.TryGetValue("brief", out var brief))
            throw Error(node, "after needs brief, the file of the ring before this one");
        if (Text(brief).Contains('/', StringComparison.Ordinal) || Text(brief) is "." or "..")
            throw Error(brief, $"'{Text(brief)}' is not a file in the folder of this brief. Give a file name without a folder");
        string done = fields.TryGetValue("done", out var share) ? Text(share) : "100%";
        bool isPercent = done.EndsWith('%');
        if (!int.TryParse(isPercent ? done[..^1] : done, NumberStyles.None, CultureInfo.InvariantCulture, out int number)
            || number < 1 || (isPercent && number > 100))
            throw Error(share!, $"'{done}' is neither a number of machines nor a share of them, such as 12 or 90%");
        int days = 0;
        if (fields.TryGetValue("days", out var length)
            && (!int.TryParse(Text(length), NumberStyles.None, CultureInfo.InvariantCulture, out days) || days > MaxDays))
            throw Error(length, $"'{Text(length)}' is not a number of days up to {MaxDays}");
        return new RingCondition(Text(brief), number, isPercent, days, $"{Name}:{node.Line}");
    }

    private ImmutableArray<BriefRule> Rules(Dictionary<string, YamlNode> fields, string key) => [.. Items(fields, key).Select(Rule)];

    private BriefRule Rule(YamlNode node)
    {
        string source = $"{Name}:{node.Line}";
        if (node is YamlText { IsEmpty: false } package)
            return new BriefRule(source, new PackageConditions { Names = [package.Text] });
        var fields = Fields(node, "a rule", RuleKeys);
        if (fields.Keys.All(k => k is "because" or "kind"))
            throw Error(node, $"a rule without a condition would take everything; conditions are {string.Join(", ", RuleKeys[..^2])}");
        bool isDesktop = fields.TryGetValue("kind", out var kind) && Text(kind) switch
        {
            "desktop" => true,
            "app" => false,
            var other => throw Error(kind, $"'{other}' is not one of app, desktop"),
        };
        if (isDesktop && fields.Keys.FirstOrDefault(k => k is "origin" or "role" or "standing" or "runs-in-background") is { } foreign)
            throw Error(fields[foreign], $"desktop programs have no {foreign}");
        return new BriefRule(source, new PackageConditions
        {
            Names = Texts(fields, "package"),
            Publishers = Texts(fields, "publisher"),
            Origins = Values<PackageOrigin>(fields, "origin"),
            Roles = Values<PackageRole>(fields, "role"),
            Standings = Values<PackageStanding>(fields, "standing"),
            Find = Texts(fields, "find"),
            LargerThan = Size(fields, "larger-than"),
            SmallerThan = Size(fields, "smaller-than"),
            StartsWithWindows = Flag(fields, "starts-with-windows"),
            RunsInBackground = Flag(fields, "runs-in-background"),
            IsDesktop = isDesktop,
        }, fields.TryGetValue("because", out var because) ? Text(because) : null);
    }

    private BriefInclude Include(YamlNode node)
    {
        string source = $"{Name}:{node.Line}:{node.Column}";
        if (node is YamlText { IsEmpty: false } file)
            return new BriefInclude(file.Text, null, source);
        var fields = Fields(node, "an include", IncludeKeys);
        if (!fields.TryGetValue("url", out var url) || !fields.TryGetValue("sha256", out var digest))
            throw Error(node, "an include from an address needs url and sha256");
        string sha256 = Text(digest);
        return sha256.Length == 64 && sha256.All(char.IsAsciiHexDigit) ? new BriefInclude(Text(url), sha256, source)
            : throw Error(digest, "sha256 has to be 64 hexadecimal digits");
    }

    /// <summary>Reads the list of guards that have names.</summary>
    internal ImmutableArray<Guard> ReadKnownGuards(string text) =>
        [.. ((YamlList)YamlNode.Read(Name, text)!).Items.Select(item =>
        {
            var fields = Fields(item, "a guard", KnownGuardKeys);
            return ReadGuard(item, fields) with { Name = Text(fields["guard"]), Because = Text(fields["says"]),
                Stops = Values<Delivery>(fields, "stops"), Editions = Texts(fields, "editions"), IsReported = Text(fields["sure"]) == "reported",
                Builds = fields.TryGetValue("builds", out var builds) ? Builds(builds) : (0, int.MaxValue),
                OnlyByName = Flag(fields, "only-by-name") == true };
        })];

    /// <summary>A known guard by its name, removal by policy with its families, or a guard of the brief's own.</summary>
    private IEnumerable<Guard> ReadGuards(YamlNode node)
    {
        if (node is YamlText { IsEmpty: false } known)
            return [Known(known)];
        var fields = Fields(node, "a guard", [KnownGuards.RemovalByPolicy, .. GuardKeys]);
        if (!fields.TryGetValue(KnownGuards.RemovalByPolicy, out var families))
            return [ReadGuard(node, fields)];
        return fields.Count > 1 ? throw Error(node, $"{KnownGuards.RemovalByPolicy} has families and nothing else")
            : KnownGuards.OfRemovalByPolicy(families is YamlList list ? list.Items.Select(Family) : [Family(families)]);
    }

    /// <summary>Builds from-to, of which either may be missing.</summary>
    private (int First, int Last) Builds(YamlNode node)
    {
        string[] ends = Text(node).Split('-');
        return ends.Length == 2 && int.TryParse(ends[0].Length > 0 ? ends[0] : "0", NumberStyles.None, CultureInfo.InvariantCulture, out int first)
            && int.TryParse(ends[1].Length > 0 ? ends[1] : $"{int.MaxValue}", NumberStyles.None, CultureInfo.InvariantCulture, out int last)
            ? (first, last) : throw Error(node, $"'{Text(node)}' is not a range of builds, such as 22000-22631");
    }

    private Guard Known(YamlText known)
    {
        try
        {
            return KnownGuards.Find(known.Text);
        }
        catch (MoorfieldException e)
        {
            throw Error(known, e.Message.TrimEnd('.'));
        }
    }

    private Guard ReadGuard(YamlNode node, Dictionary<string, YamlNode> fields)
    {
        bool isAbsence = fields.TryGetValue("absent", out var absent);
        foreach (string needed in GuardKeys[..(isAbsence ? 2 : 5)].Where(k => !fields.ContainsKey(k)))
            throw Error(node, $"a guard needs {needed}; it has hive, key, name, type and data");
        string key = Text(fields["key"]).Trim('\\');
        if (key.Length == 0 || key.Split('\\').Any(k => k.Length is 0 or > 255))
            throw Error(fields["key"], "a key is a path of names, such as Policies\\Company\\Product");
        return new Guard(
            null, One<GuardHive>(fields["hive"]), key, isAbsence ? new HiveValue(Text(absent!), HiveValueType.None, default) : GuardValue(fields),
            fields.TryGetValue("family", out var family) ? Text(family) : null,
            fields.TryGetValue("because", out var because) ? Text(because) : null)
        { IsAbsence = isAbsence };
    }

    private HiveValue GuardValue(Dictionary<string, YamlNode> fields)
    {
        string valueName = Text(fields["name"]);
        string type = Text(fields["type"]);
        var data = fields["data"];
        var value = type switch
        {
            "dword" => HiveValue.FromDWord(valueName, (uint)Number(data, uint.MaxValue)),
            "qword" => HiveValue.FromQWord(valueName, Number(data, ulong.MaxValue)),
            "text" => HiveValue.FromString(valueName, Text(data)),
            "expandable-text" => HiveValue.FromString(valueName, Text(data), HiveValueType.ExpandString),
            "texts" => HiveValue.FromStrings(valueName, TextsOf(data)),
            _ => throw Error(fields["type"], $"the type '{type}' is not one of {string.Join(", ", ValueTypes)}"),
        };
        return value.Data.Length <= HiveValue.MaxWritableLength ? value
            : throw Error(data, $"the data is longer than {HiveValue.MaxWritableLength:N0} bytes");
    }

    private ulong Number(YamlNode node, ulong most)
    {
        string text = Text(node);
        bool hexadecimal = text.StartsWith("0x", StringComparison.OrdinalIgnoreCase);
        return ulong.TryParse(hexadecimal ? text[2..] : text, hexadecimal ? NumberStyles.AllowHexSpecifier : NumberStyles.None,
            CultureInfo.InvariantCulture, out ulong number) && number <= most
            ? number
            : throw Error(node, $"'{text}' is not a number from 0 to {most}");
    }

    private PackageFamilyName Family(YamlNode node) =>
        PackageFamilyName.TryParse(Text(node), out var family) ? family
            : throw Error(node, $"'{Text(node)}' is not a family name (Name_PublisherId); a block needs one, because the package need not be there");
}
