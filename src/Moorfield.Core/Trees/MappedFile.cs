using System.IO.MemoryMappedFiles;
using Microsoft.Win32.SafeHandles;

namespace Moorfield.Core.Trees;

/// <summary>A file in memory that is looked at where it lies. Nothing may make it shorter meanwhile: only for files of this process.</summary>
internal sealed unsafe class MappedFile : IDisposable
{
    private readonly MemoryMappedFile? _file;
    private readonly MemoryMappedViewAccessor? _view;
    private readonly byte* _start;

    internal MappedFile(SafeFileHandle file)
    {
        Length = RandomAccess.GetLength(file);
        if (Length == 0)
            return; // nothing can be mapped
        _file = MemoryMappedFile.CreateFromFile(file, null, 0, MemoryMappedFileAccess.Read, HandleInheritability.None, leaveOpen: true);
        _view = _file.CreateViewAccessor(0, Length, MemoryMappedFileAccess.Read);
        _view.SafeMemoryMappedViewHandle.AcquirePointer(ref _start);
    }

    /// <summary>In bytes.</summary>
    internal long Length { get; }

    /// <summary>A stretch of it.</summary>
    /// <exception cref="ArgumentOutOfRangeException">It does not lie in the file.</exception>
    internal ReadOnlySpan<byte> At(long offset, int length)
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
