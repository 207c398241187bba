using System.Globalization;
using System.Text.Json.Nodes;
using Json.Schema;
using YamlDotNet.Core;
using YamlDotNet.RepresentationModel;

namespace Moorfield.Core.Tests;

/// <summary>The schemas that editors use, as a validator that we did not write reads them.</summary>
internal static class YamlSchema
{
    /// <summary>True if a schema allows a text, as YAML's core schema reads it.</summary>
    /// <param name="schema">File in docs.</param>
    internal static bool Allows(string schema, string text)
    {
        var yaml = new YamlStream();
        yaml.Load(new StringReader(text));
        return JsonSchema.FromText(File.ReadAllText(PathOf(schema))).Evaluate(ToJson(yaml.Documents[0].RootNode)).IsValid;
    }

    private static JsonNode? ToJson(YamlNode node) => node switch
    {
        YamlMappingNode map => new JsonObject(map.Children.Select(c => KeyValuePair.Create(((YamlScalarNode)c.Key).Value!, ToJson(c.Value)))),
        YamlSequenceNode list => new JsonArray([.. list.Children.Select(ToJson)]),
        YamlScalarNode { Style: not ScalarStyle.Plain } quoted => JsonValue.Create(quoted.Value),
        YamlScalarNode { Value: "true" or "false" } flag => JsonValue.Create(flag.Value == "true"),
        YamlScalarNode { Value: "" or "~" or "null" } => null,
        YamlScalarNode scalar => long.TryParse(scalar.Value, CultureInfo.InvariantCulture, out long number)
            ? JsonValue.Create(number) : JsonValue.Create(scalar.Value),
        _ => throw new NotSupportedException(),
    };

    private static string PathOf(string schema)
    {
        for (string? folder = AppContext.BaseDirectory; ; folder = Path.GetDirectoryName(folder))
        {
            string path = Path.Combine(folder!, "docs", schema);
            if (File.Exists(path))
                return path;
        }
    }
}
