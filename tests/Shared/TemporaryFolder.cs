namespace Moorfield.Tests;

/// <summary>A folder that goes with the test.</summary>
/// <param name="inMemory">On a file system in memory, where there is one: for tests that flush very often.</param>
public sealed class TemporaryFolder(bool inMemory = false) : IDisposable
{
    private const string Memory = "/dev/shm";

    public string Path { get; } = inMemory && Directory.Exists(Memory)
        ? Directory.CreateDirectory(System.IO.Path.Combine(Memory, $"moorfield-test-{Guid.NewGuid():N}")).FullName
        : Directory.CreateTempSubdirectory("moorfield-test-").FullName;

    public string this[string name] => System.IO.Path.Combine(Path, name);

    public string Write(string name, ReadOnlySpan<byte> content)
    {
        Directory.CreateDirectory(System.IO.Path.GetDirectoryName(this[name])!);
        File.WriteAllBytes(this[name], content);
        return this[name];
    }

    // By rm, which also takes names and modes that .NET does not.
    public void Dispose() => Tool.Run("rm", "-rf", Path);
}
