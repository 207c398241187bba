using System.Security.Cryptography;
using Moorfield.Core.Storage;
using ZstdSharp;

namespace Moorfield.Core.Vaults;

/// <content>Reports of runs: what a run asked and did, for people, behind their SHA-256. Undoing needs none of it.</content>
public sealed partial class Vault
{
    private const int MaxReport = 16 << 20;

    /// <summary>Keeps the report of a point's run, encrypted where the point is.</summary>
    /// <param name="report">At most 16 MB.</param>
    /// <exception cref="MoorfieldException">There is no such point, no key to it is here, or nothing can be written.</exception>
    public void KeepReport(int number, byte[] report)
    {
        var seal = Outline(number).Seal;
        var key = seal is null ? null : KeyOf(number, seal) ?? throw new LockedPointException(WhyLocked(number, seal));
        var output = new MemoryStream();
        using (var sealing = key is null ? null : new SealingStream(output, key, ReportUse(number)))
        {
            using (var compressor = new CompressionStream(sealing ?? (Stream)output, _compressor.Value, preserveCompressor: true, leaveOpen: true))
            {
                compressor.Write(SHA256.HashData(report));
                compressor.Write(report);
            }
            sealing?.Finish();
        }
        using var gate = FileLock.Take(_points);
        AtomicFile.Write(_points, ReportName(number), output.ToArray(), Folder.PrivateMode);
    }

    /// <summary>The report of a point's run; null when none was kept.</summary>
    /// <exception cref="MoorfieldException">There is no such point, no key to it is here, or the report is damaged.</exception>
    public byte[]? ReadReport(int number)
    {
        var seal = Outline(number).Seal;
        using var file = _points.OpenFile(ReportName(number));
        if (file is null)
            return null;
        var key = seal is null ? null : KeyOf(number, seal) ?? throw new LockedPointException(WhyLocked(number, seal));
        try
        {
            using var stored = new MemoryStream(FileContent.ReadAll(file, MaxReport));
            using var plain = new DecompressionStream(key is null ? stored : new OpeningStream(stored, key, ReportUse(number)), leaveOpen: false);
            byte[] content = new byte[SHA256.HashSizeInBytes + MaxReport];
            int length = plain.ReadAtLeast(content, content.Length, throwOnEndOfStream: false);
            if (length < SHA256.HashSizeInBytes)
                throw new InvalidDataException("it has no digest");
            byte[] report = content[SHA256.HashSizeInBytes..length];
            return content.AsSpan(0, SHA256.HashSizeInBytes).SequenceEqual(SHA256.HashData(report)) ? report
                : throw new InvalidDataException("it is not as it was kept");
        }
        catch (Exception e) when (IsDamage(e) || e is MoorfieldException)
        {
            throw DamagedReport(number, e);
        }
    }

    /// <summary>An error that says that a report is damaged.</summary>
    public static MoorfieldException DamagedReport(int number, Exception? inner = null) => new(ErrorKind.Failed,
        $"The report of restore point {number} is damaged. Undoing does not need it.", inner);

    /// <summary>The fault of a point's report; null when it is sound or none was kept. Without a key only the ciphertext is looked at.</summary>
    internal string? ReportFault(int number)
    {
        try
        {
            _ = ReadReport(number);
            return null;
        }
        catch (LockedPointException)
        {
            using var file = _points.OpenFile(ReportName(number))!;
            return SealedFormat.IsWhole(new FileStream(file, FileAccess.Read)) ? null : DamagedReport(number).Message;
        }
        catch (MoorfieldException e)
        {
            return e.Message;
        }
    }

    private static string ReportUse(int number) => $"moorfield report {number}";

    private static string ReportName(int number) => $"{number:D6}.report";
}
