using System.IO.MemoryMappedFiles;

namespace Moorfield.Formats.Native;

/// <summary>A file that is looked at where it lies. Nothing may make it shorter meanwhile.</summary>
public sealed unsafe class MappedFile : IDisposable
{
    private readonly MemoryMappedFile? _file;
    private readonly MemoryMappedViewAccessor? _view;
    private readonly byte* _start;

    /// <param name="file">Stays the caller's.</param>
    public MappedFile(SafeFileHandle file)
    {
        Length = RandomAccess.GetLength(file);
        if (Length == 0)
            return; // nothing can be mapped
        _file = MemoryMappedFile.CreateFromFile(file, null, 0, MemoryMappedFileAccess.Read, HandleInheritability.None, leaveOpen: true);
        _view = _file.CreateViewAccessor(0, Length, MemoryMappedFileAccess.Read);
        _view.SafeMemoryMappedViewHandle.AcquirePointer(ref _start);
    }

    /// <summary>In bytes.</summary>
    public long Length { get; }

    /// <summary>Its first byte; null when it has none.</summary>
    internal byte* Start => _start;

    /// <summary>A stretch of it.</summary>
    /// <exception cref="ArgumentOutOfRangeException">It does not lie in the file.</exception>
    public ReadOnlySpan<byte> At(long offset, int length)
    {
        ArgumentOutOfRangeException.ThrowIfNegative(offset);
        ArgumentOutOfRangeException.ThrowIfGreaterThan(offset, Length - length);
        return new ReadOnlySpan<byte>(_start + offset, length);
    }

    public void Dispose()
    {
        _view?.SafeMemoryMappedViewHandle.ReleasePointer();
        _view?.Dispose();
        _file?.Dispose();
    }
}
