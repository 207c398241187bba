namespace Moorfield.Core.Selection;

/// <summary>Reads the text of a recipe.</summary>
/// <param name="name">Its path, for messages.</param>
internal sealed class RecipeReader(string name) : YamlReader(name)
{
    private const int MaxPart = 1 << 20, Sha256Digits = 64;
    private static readonly string[] TopKeys = ["recipe", "title", "source", "briefs", "editions", "only-editions", "label", "languages", "files",
        "part", "compression", "sweep", "output", "checks"];
    private static readonly string[] SourceKeys = ["file", "sha256"], BriefKeys = ["url", "sha256"], FileKeys = ["file", "path"];
    private static readonly string[] Compressions = ["lzx", "lzx-thorough", "xpress", "none"];
    private static readonly Dictionary<string, RecipeCheck> CheckNames = new(StringComparer.Ordinal)
    {
        ["brief"] = RecipeCheck.Brief, ["sign-in"] = RecipeCheck.SignIn,
    };

    /// <param name="sha256">Of its bytes.</param>
    internal Recipe Read(string text, string sha256)
    {
        var root = YamlNode.Read(Name, text)
            ?? throw new MoorfieldException(ErrorKind.InvalidUsage, $"{Name} is empty. docs/pipelines.md shows a recipe.");
        var fields = Fields(root, "a recipe", TopKeys);
        if (!fields.TryGetValue("recipe", out var version) || Text(version) != "1")
            throw Error(version ?? root, "a recipe begins with 'recipe: 1', the version of the format");
        var source = Fields(Needed(fields, root, "source"), "source", SourceKeys);
        var sourceFile = Needed(source, fields["source"], "file");
        var recipe = new Recipe(
            Name, sha256, Inside(sourceFile), Digest(Needed(source, fields["source"], "sha256")), Inside(Needed(fields, root, "output")))
        {
            Title = Optional(fields, "title"),
            Briefs = [.. Items(fields, "briefs").Select(Brief)],
            Editions = Texts(fields, "editions"),
            OnlyEditions = Flag(fields, "only-editions") == true,
            Label = Optional(fields, "label"),
            Languages = Texts(fields, "languages"),
            Files = [.. Items(fields, "files").Select(Addition)],
            Part = fields.TryGetValue("part", out var part) ? Part(part) : null,
            Compression = fields.TryGetValue("compression", out var compression) ? OneOf(compression, Compressions) : Compressions[0],
            Sweep = Flag(fields, "sweep") == true,
            Checks = !fields.TryGetValue("checks", out _) ? []
                : [.. Items(fields, "checks").Select(c => CheckNames[OneOf(c, [.. CheckNames.Keys])]).Distinct()],
        };
        if (recipe.Checks.Contains(RecipeCheck.Brief) && recipe.Briefs.IsEmpty)
            throw Error(fields["checks"], "the check 'brief' needs a brief");
        if (recipe.OnlyEditions && recipe.Editions.IsEmpty)
            throw Error(fields["only-editions"], "only-editions keeps what editions names");
        return recipe.Output != recipe.Source ? recipe : throw Error(fields["output"], "the output is the source itself, which is never written");
    }

    private YamlNode Needed(Dictionary<string, YamlNode> fields, YamlNode at, string key) =>
        fields.TryGetValue(key, out var node) ? node : throw Error(at, $"'{key}' is missing");

    private string? Optional(Dictionary<string, YamlNode> fields, string key) => !fields.TryGetValue(key, out var node) ? null
        : Text(node) is { Length: > 0 } text ? text : throw Error(node, "a text is expected here");

    private string OneOf(YamlNode node, string[] known) =>
        known.Contains(Text(node), StringComparer.Ordinal) ? Text(node)
            : throw Error(node, $"'{Text(node)}' is not one of {string.Join(", ", known)}");

    private string Digest(YamlNode node) => Text(node) is { Length: Sha256Digits } digits && digits.All(char.IsAsciiHexDigit)
        ? digits.ToLowerInvariant() : throw Error(node, "sha256 has to be 64 hexadecimal digits");

    /// <summary>A path that does not lead out of the recipe's folder by its words.</summary>
    private string Inside(YamlNode node) =>
        Text(node) is var path && !path.Contains('\0', StringComparison.Ordinal) && path.Split('/').All(p => p is not ("" or "." or ".."))
            ? path : throw Error(node, $"'{Text(node)}' is not a path in the folder of the recipe. Give a name, or folder/name, without '..'");

    private RecipeBrief Brief(YamlNode node)
    {
        if (node is YamlText)
            return new RecipeBrief(Inside(node), null);
        var fields = Fields(node, "a brief", BriefKeys);
        return new RecipeBrief(Text(Needed(fields, node, "url")), Digest(Needed(fields, node, "sha256")));
    }

    private (string File, string Path) Addition(YamlNode node)
    {
        var fields = Fields(node, "a file", FileKeys);
        var file = Needed(fields, node, "file");
        return (Inside(file), fields.TryGetValue("path", out var path) ? Text(path) : Inside(file));
    }

    private int Part(YamlNode node) =>
        int.TryParse(Text(node), NumberStyles.None, CultureInfo.InvariantCulture, out int mebibytes) && mebibytes is > 0 and <= MaxPart
            ? mebibytes : throw Error(node, $"'{Text(node)}' is not a number of MiB from 1 to {MaxPart}");
}
