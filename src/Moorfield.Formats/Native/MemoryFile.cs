namespace Moorfield.Formats.Native;

/// <summary>Anonymous files in memory: no name, no trace on any disk, gone when they are closed.</summary>
public static class MemoryFile
{
    /// <summary>Makes an empty one.</summary>
    /// <exception cref="IOException">The system gave none.</exception>
    public static SafeFileHandle Create()
    {
        var file = LibC.CreateMemoryFile("moorfield\0"u8, 0);
        return file.IsInvalid ? throw new IOException($"No memory for a file: {Marshal.GetPInvokeErrorMessage(Marshal.GetLastPInvokeError())}")
            : file;
    }
}
