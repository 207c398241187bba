namespace Moorfield.Tests;

/// <summary>A folder that goes with the test.</summary>
public sealed class TemporaryFolder : IDisposable
{
    public string Path { get; } = Directory.CreateTempSubdirectory("moorfield-test-").FullName;

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
