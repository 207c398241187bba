using Moorfield.Core.Storage;

namespace Moorfield.Core.Selection;

/// <summary>A person's settings for all runs; options and the environment take precedence.</summary>
/// <param name="Vault">Folder that holds restore points; null when not set.</param>
/// <param name="VaultLimit">Bytes beyond which the oldest restore points are dropped; null for none.</param>
/// <param name="Log">File of the run log, or "none"; null when not set.</param>
/// <param name="LogFormat">text or json; null when not set.</param>
/// <param name="BitLockerKeys">File or folder with keys of encrypted disks; null when not set.</param>
/// <param name="VaultKey">File with the key of what vaults keep encrypted; null when not set.</param>
public sealed record Settings(string? Vault, long? VaultLimit, string? Log, string? LogFormat, string? BitLockerKeys, string? VaultKey = null)
{
    private static readonly Settings None = new(null, null, null, null, null);
    private static readonly string[] Keys = ["vault", "vault-key", "vault-limit", "log", "log-format", "bitlocker-keys"];
    private static readonly Lazy<Settings> Loaded = new(() => Load(FilePath));

    /// <summary>As they are in the person's file; none when there is none.</summary>
    /// <exception cref="MoorfieldException">The file cannot be read, or means nothing.</exception>
    public static Settings Current => Loaded.Value;

    /// <summary>The file, whether it is there or not. Source: XDG base directory specification.</summary>
    public static string FilePath => Path.Combine(
        Environment.GetEnvironmentVariable("XDG_CONFIG_HOME") is { Length: > 0 } home ? home
            : Path.Combine(Environment.GetFolderPath(Environment.SpecialFolder.UserProfile, Environment.SpecialFolderOption.DoNotVerify), ".config"),
        "moorfield", "config.yaml");

    /// <summary>Reads a file of settings; none when it is not there.</summary>
    /// <exception cref="MoorfieldException">It cannot be read, or means nothing.</exception>
    public static Settings Load(string path)
    {
        string text;
        try
        {
            if (!File.Exists(path))
                return None;
            using var file = RegularFile.OpenNamed(path);
            if (file.Length > YamlNode.MaxLength)
                throw new MoorfieldException(ErrorKind.InvalidUsage, $"{path} is longer than settings can be.");
            using var reader = new StreamReader(file);
            text = reader.ReadToEnd();
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            throw new MoorfieldException(ErrorKind.Failed, $"{path} cannot be read: {e.Message}", e);
        }
        if (YamlNode.Read(path, text) is not { } root)
            return None;
        if (root is not YamlMap map)
            throw Error(path, root, $"settings are 'key: value', one a line; keys are {TextFormat.List(Keys)}");
        var values = new Dictionary<string, YamlText>(StringComparer.Ordinal);
        foreach (var (key, value) in map.Fields)
        {
            if (!Keys.Contains(key.Text))
                throw Error(path, key, $"'{key.Text}' is not a setting; settings are {TextFormat.List(Keys)}");
            values[key.Text] = value is YamlText { IsEmpty: false } given ? given : throw Error(path, value, $"'{key.Text}' takes one value");
        }
        string? Place(string key) => !values.TryGetValue(key, out var value) ? null
            : Path.IsPathFullyQualified(value.Text) || (key == "log" && value.Text == "none") ? value.Text
            : throw Error(path, value, $"'{key}' takes a path from the root on");
        return new Settings(
            Place("vault"),
            values.TryGetValue("vault-limit", out var limit)
                ? TextFormat.ParseSize(limit.Text) ?? throw Error(path, limit, $"'{limit.Text}' is not a size such as 500 MB or 20 GB") : null,
            Place("log"),
            !values.TryGetValue("log-format", out var format) ? null : format.Text is "text" or "json" ? format.Text
                : throw Error(path, format, "'log-format' is text or json"),
            Place("bitlocker-keys"),
            Place("vault-key"));
    }

    private static MoorfieldException Error(string path, YamlNode node, string what) =>
        new(ErrorKind.InvalidUsage, $"{path}:{node.Line}:{node.Column}: {what}.");
}
