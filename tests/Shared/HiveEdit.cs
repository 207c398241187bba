using Moorfield.Formats.Hives;

namespace Moorfield.Tests;

/// <summary>Changes hives of a test's volume, as Windows or a person would between two runs.</summary>
public static class HiveEdit
{
    public const string Store = @"Microsoft\Windows\CurrentVersion\Appx\AppxAllUserStore";

    public static string Software(string root) => Path.Combine(root, "Windows/System32/config/SOFTWARE");

    public static void Change(string path, Action<Hive> change)
    {
        byte[] bytes;
        using (var file = File.OpenHandle(path))
        using (var hive = Hive.OpenWrite(file))
        {
            change(hive);
            bytes = hive.ToArray();
        }
        File.WriteAllBytes(path, bytes);
    }

    public static T Read<T>(string path, Func<Hive, T> read)
    {
        using var file = File.OpenHandle(path);
        using var hive = Hive.OpenRead(file);
        return read(hive);
    }

    public static bool HasKey(string path, string key)
    {
        using var file = File.OpenHandle(path);
        using var hive = Hive.OpenRead(file);
        return hive.Find(key) is not null;
    }

    /// <summary>Makes the two sequence numbers the same and the checksum right, so that a hive is looked into.</summary>
    public static void MakeClean(string path)
    {
        byte[] content = File.ReadAllBytes(path);
        content.AsSpan(4, 4).CopyTo(content.AsSpan(8));
        Seal(path, content);
    }

    /// <summary>Makes the two sequence numbers differ, as they do when Windows was cut off, and the checksum right.</summary>
    public static void MakeDirty(string path)
    {
        byte[] content = File.ReadAllBytes(path);
        content[4]++;
        Seal(path, content);
    }

    private static void Seal(string path, byte[] content)
    {
        uint sum = Enumerable.Range(0, 127).Aggregate(0u, (sum, i) => sum ^ BitConverter.ToUInt32(content, i * 4));
        BitConverter.TryWriteBytes(content.AsSpan(508), sum);
        File.WriteAllBytes(path, content);
    }
}
