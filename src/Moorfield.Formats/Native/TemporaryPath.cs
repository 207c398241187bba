namespace Moorfield.Formats.Native;

/// <summary>The folder for temporary files: TMPDIR, or /tmp.</summary>
internal static class TemporaryPath
{
    /// <summary>Its path.</summary>
    /// <exception cref="IOException">It is not there; the message is a full sentence but for its end.</exception>
    internal static string Folder => Path.GetTempPath() is var path && Directory.Exists(path) ? path
        : throw new IOException($"needs a folder for temporary files, and {path.TrimEnd('/')} is not there. Make it, or name another in TMPDIR");

    /// <summary>The path of something in it.</summary>
    /// <exception cref="IOException">As for <see cref="Folder"/>.</exception>
    internal static string Combine(string name) => Path.Combine(Folder, name);
}
