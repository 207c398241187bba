using System.Text.Json.Nodes;
using Json.Schema;
using Moorfield.Core.Model;
using Moorfield.Core.Selection;
using Moorfield.Tests;

namespace Moorfield.Core.Tests;

public sealed class SettingsTests : IDisposable
{
    private readonly TemporaryFolder _folder = new(inMemory: true);

    [Theory]
    [InlineData("", true)]
    [InlineData("vault: /srv/vault\nvault-limit: 20 GB\nlog: none\nlog-format: text", true)]
    [InlineData("vault-key: /srv/keys/own.key\nbitlocker-keys: /srv/keys", true)]
    [InlineData("vault-key: own.key", false)]
    [InlineData("vault-limit: 1.5gb\nlog: /var/log/x.log", true)]
    [InlineData("vault-limit: 5000", true)]
    [InlineData("vault-limit: much", false)]
    [InlineData("vault: here", false)]
    [InlineData("log: here", false)]
    [InlineData("log-format: xml", false)]
    [InlineData("colour: blue", false)]
    [InlineData("vault: [a]", false)]
    [InlineData("- vault", false)]
    public void The_schema_for_editors_says_what_the_reader_says(string text, bool good)
    {
        string file = _folder.Write("config.yaml", System.Text.Encoding.UTF8.GetBytes(text));
        if (good)
            Settings.Load(file).ShouldNotBeNull();
        else
            Should.Throw<MoorfieldException>(() => Settings.Load(file)).Message.ShouldContain("config.yaml:1:");
        if (text.Length == 0)
            return;
        string? folder = AppContext.BaseDirectory;
        while (!File.Exists(Path.Combine(folder!, "docs", "config.schema.json")))
            folder = Path.GetDirectoryName(folder);
        JsonNode document = text.StartsWith('-') ? new JsonArray("vault") : new JsonObject(text.Split('\n').Select(l => l.Split(": ")).Select(p =>
            KeyValuePair.Create(p[0], p[1].StartsWith('[') ? new JsonArray("a") : int.TryParse(p[1], out int number) ? JsonValue.Create(number)
                : (JsonNode?)JsonValue.Create(p[1]))));
        JsonSchema.FromText(File.ReadAllText(Path.Combine(folder!, "docs", "config.schema.json"))).Evaluate(document).IsValid.ShouldBe(good);
    }

    [Theory]
    [InlineData("500 KB", 512_000L)]
    [InlineData("1.5MB", 1_572_864L)]
    [InlineData("2gb", 2_147_483_648L)]
    [InlineData("7", 7L)]
    [InlineData("7 B", 7L)]
    [InlineData("much", -1L)]
    [InlineData("5 TB", -1L)]
    [InlineData("-5 MB", -1L)]
    [InlineData("", -1L)]
    public void Sizes_are_read_as_people_write_them(string text, long bytes) => (TextFormat.ParseSize(text) ?? -1).ShouldBe(bytes);

    public void Dispose() => _folder.Dispose();
}
