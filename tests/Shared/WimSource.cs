using System.Globalization;

namespace Moorfield.Tests;

/// <summary>WIM files made by wimlib-imagex, and what it says of ours.</summary>
public static class WimSource
{
    /// <summary>
    /// A folder with files of many kinds: empty, small, longer than a chunk, incompressible, hard links, a symbolic link, deep folders.
    /// </summary>
    public static string FillFolder(TemporaryFolder folder, string name = "source")
    {
        byte[] noise = new byte[100_000];
        new Random(7).NextBytes(noise);
        folder.Write($"{name}/Apps/Tide/tide.exe", noise);
        folder.Write($"{name}/Apps/Tide/tide.dat", [.. Enumerable.Range(0, 300_000).Select(i => (byte)(i / 997))]);
        folder.Write($"{name}/Apps/Tide/Assets/logo.png", noise.AsSpan(0, 700));
        folder.Write($"{name}/Apps/Ferry/ferry.exe", noise.AsSpan(500, 9000));
        folder.Write($"{name}/Apps/Ferry/empty.txt", []);
        folder.Write($"{name}/Windows/HIVE", [.. Enumerable.Range(0, 1_000_000).Select(i => (byte)((i * i) >> 11))]);
        folder.Write($"{name}/Windows/same.png", noise.AsSpan(0, 700));
        for (int i = 0; i < 200; i++)
            folder.Write($"{name}/Windows/System/file{i:D3}.dll", System.Text.Encoding.UTF8.GetBytes($"content {i % 40}"));
        Directory.CreateDirectory(folder[$"{name}/Windows/Nothing"]);
        Tool.Read("ln", folder[$"{name}/Apps/Tide/tide.dat"], folder[$"{name}/Windows/linked.dat"]);
        Tool.Read("ln", folder[$"{name}/Apps/Tide/tide.dat"], folder[$"{name}/Windows/linked2.dat"]);
        Tool.Read("ln", "-s", "System/file000.dll", folder[$"{name}/Windows/link"]);
        return folder[name];
    }

    /// <summary>Captures a folder into a new WIM.</summary>
    /// <param name="options">Of wimlib-imagex, such as --compress=LZX or --check.</param>
    public static string Capture(TemporaryFolder folder, string source, string name, params string[] options)
    {
        Imagex(["capture", source, folder[name], "First", "The first image", .. options]);
        return folder[name];
    }

    /// <summary>Runs wimlib-imagex and gives what it printed; fails the test when it fails.</summary>
    public static string Imagex(params string[] arguments)
    {
        var outcome = Tool.Run("wimlib-imagex", arguments);
        return outcome.ExitCode == 0 ? outcome.Output
            : throw new InvalidOperationException($"wimlib-imagex {string.Join(' ', arguments)}: {outcome.Error}");
    }

    /// <summary>What wimlib-imagex says of every entry of an image, each as one block, by path.</summary>
    public static Dictionary<string, string> Details(string wim, int image)
    {
        var blocks = Imagex("dir", wim, image.ToString(CultureInfo.InvariantCulture), "--detailed")
            .Split("----------------------------------------------------------------------------\n", StringSplitOptions.RemoveEmptyEntries);
        return blocks.ToDictionary(b => Field(b, "Full Path"), StringComparer.Ordinal);
    }

    /// <summary>A field of a text of lines like "Name  = value" or "Name:  value"; empty when it is not there.</summary>
    public static string Field(string text, string name) =>
        text.Split('\n').FirstOrDefault(l => l.StartsWith(name, StringComparison.Ordinal)) is { } line
            ? line[name.Length..].TrimStart(' ', '=', ':').Trim('"') : "";

    /// <summary>Makes sure that wimlib-imagex finds nothing wrong with a WIM.</summary>
    public static void Verify(string wim) => Imagex("verify", wim);

    /// <summary>SHA-1 and reference count of every content, as wimlib-imagex lists them.</summary>
    public static SortedDictionary<string, int> References(string wim)
    {
        var references = new SortedDictionary<string, int>(StringComparer.Ordinal);
        foreach (string block in Imagex("info", wim, "--blobs").Split("\n\n"))
        {
            if (Field(block, "Hash").TrimStart('0', 'x') is { Length: > 0 } hash
            && !block.Contains("WIM_RESHDR_FLAG_METADATA", StringComparison.Ordinal))
                references[hash] = int.Parse(Field(block, "Reference Count"), CultureInfo.InvariantCulture);
        }
        return references;
    }
}
