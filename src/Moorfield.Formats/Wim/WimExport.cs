using System.Runtime.CompilerServices;
using System.Security.Cryptography;

namespace Moorfield.Formats.Wim;

/// <summary>Writes images into other image files through libwim: its job, in its own way. The source is only read.</summary>
public static unsafe class WimExport
{
    // Four times as fast as libwim's own level for LZX, and a few per cent larger.
    private const uint FastLevel = 20;

    private const int Aborted = 76;

    /// <summary>
    /// Called while a file is written, with the bytes done and their total before compression; the total is 0 where it is not known. False to stop.
    /// </summary>
    public delegate bool Progress(long done, long total);

    /// <summary>Writes images into a new file.</summary>
    /// <param name="source">Path of a WIM or ESD.</param>
    /// <param name="images">Numbers, from 1; empty for all.</param>
    /// <param name="output">Path of the new file.</param>
    /// <param name="compression">Of the new file.</param>
    /// <param name="thorough">True if to take some four times as long for a few per cent less.</param>
    /// <param name="integrity">True if it gets an integrity table.</param>
    /// <exception cref="InvalidDataException">The source is damaged, encrypted, or a part of a split one; the message follows its
    /// name.</exception>
    /// <exception cref="OperationCanceledException">It was stopped.</exception>
    public static void Write(
        string source, IReadOnlyList<int> images, string output, WimCompression compression, bool thorough, bool integrity, Progress progress)
    {
        nint from = 0, to = 0;
        try
        {
            Check(LibWim.Open(source, 0, out from));
            Check(LibWim.Create((int)compression, out to));
            if (images.Count == 0)
                Check(LibWim.Export(from, LibWim.AllImages, to, null, null, 0));
            foreach (int image in images)
                Check(LibWim.Export(from, image, to, null, null, 0));
            if (compression != WimCompression.None && !thorough)
                Check(LibWim.SetLevel((int)compression, FastLevel));
            SetGuid(to, Derive(source,
                [(byte)compression, thorough ? (byte)1 : (byte)0, .. images.SelectMany(i => BitConverter.GetBytes(i))]));
            int flags = LibWim.WriteFsync | LibWim.WriteRetainGuid | (integrity ? LibWim.WriteCheckIntegrity : 0);
            Watched(progress, context =>
            {
                LibWim.SetProgress(to, &Report, context);
                return LibWim.Write(to, output, LibWim.AllImages, flags, 0);
            });
        }
        catch (DllNotFoundException e)
        {
            throw NativeLibraries.Missing("libwim", "libwim.so.15", "libwim15", e);
        }
        finally
        {
            // The new one refers to the old one.
            if (to != 0)
                LibWim.Free(to);
            if (from != 0)
                LibWim.Free(from);
        }
    }

    /// <summary>Writes an image file in parts, the others with numbers after the first one's name.</summary>
    /// <param name="partBytes">Bytes of a part; one with a single large content may have more.</param>
    /// <exception cref="InvalidDataException">It cannot be split, as an ESD cannot.</exception>
    /// <exception cref="OperationCanceledException">It was stopped.</exception>
    public static void Split(string source, string firstPart, long partBytes, Progress progress)
    {
        Check(LibWim.Open(source, 0, out nint wim));
        try
        {
            Watched(progress, context =>
            {
                LibWim.SetProgress(wim, &ReportSplit, context);
                return LibWim.Split(wim, firstPart, (ulong)partBytes, LibWim.WriteFsync | LibWim.WriteRetainGuid);
            });
        }
        finally
        {
            LibWim.Free(wim);
        }
    }

    /// <summary>Writes the parts of a split image file as one.</summary>
    /// <exception cref="InvalidDataException">They do not belong together, or one is missing.</exception>
    /// <exception cref="OperationCanceledException">It was stopped.</exception>
    public static void Join(IReadOnlyList<string> parts, string output, Progress progress) => Watched(progress, context =>
        LibWim.Join([.. parts], (uint)parts.Count, output, 0, LibWim.WriteFsync | LibWim.WriteRetainGuid, &Report, context));

    private static void SetGuid(nint wim, Guid guid)
    {
        byte* info = stackalloc byte[LibWim.InfoBytes];
        guid.TryWriteBytes(new Span<byte>(info, LibWim.InfoBytes));
        Check(LibWim.SetInfo(wim, info, LibWim.ChangeGuid));
    }

    // libwim makes a random one. This one follows from the source and the settings, so that the same input gives the same bytes.
    private static Guid Derive(string source, ReadOnlySpan<byte> settings)
    {
        using var file = File.OpenHandle(source);
        using var wim = WimFile.Open(file);
        using var hash = IncrementalHash.CreateHash(HashAlgorithmName.SHA256);
        hash.AppendData(wim.Header.Guid.ToByteArray());
        byte[] digest = new byte[Sha1Hash.Length];
        foreach (var entry in wim.Blobs.Entries)
        {
            entry.Hash.Write(digest);
            hash.AppendData(digest);
        }
        hash.AppendData(settings);
        return new Guid(hash.GetHashAndReset().AsSpan(0, 16));
    }

    private static void Watched(Progress progress, Func<nint, int> write)
    {
        var handle = GCHandle.Alloc(progress);
        try
        {
            int error = write(GCHandle.ToIntPtr(handle));
            // libwim asks too seldom to be asked alone: of what is small, not once at the end.
            if (error == Aborted || (error == 0 && !progress(0, 0)))
                throw new OperationCanceledException();
            Check(error);
        }
        finally
        {
            handle.Free();
        }
    }

    [UnmanagedCallersOnly(CallConvs = [typeof(CallConvCdecl)])]
    private static int Report(int message, ulong* facts, nint context)
    {
        return message != LibWim.WriteStreams || facts == null ? 0 : Ask(context, (long)facts[2], (long)facts[0]);
    }

    // While a part is written, libwim counts only that part.
    [UnmanagedCallersOnly(CallConvs = [typeof(CallConvCdecl)])]
    private static int ReportSplit(int message, ulong* facts, nint context) => message switch
    {
        LibWim.SplitBeginPart or LibWim.SplitEndPart when facts != null => Ask(context, (long)facts[1], (long)facts[0]),
        LibWim.WriteStreams => Ask(context, 0, 0),
        _ => 0,
    };

    private static int Ask(nint context, long done, long total)
    {
        try
        {
            return ((Progress)GCHandle.FromIntPtr(context).Target!)(done, total) ? 0 : 1;
        }
        catch (Exception)
        {
            return 1; // nothing may be thrown through libwim
        }
    }

    private static void Check(int error)
    {
        if (error == LibWim.EncryptedError)
            throw new InvalidDataException("is encrypted: it must be decrypted first, by the tools that its source gives for it");
        if (error != 0)
        {
            string? text = Marshal.PtrToStringUTF8((nint)LibWim.ErrorText(error));
            throw new InvalidDataException($"cannot be read or written by libwim: {text} ({error})");
        }
    }
}
