using Moorfield.Core.Disks;
using Moorfield.Core.Selection;
using Moorfield.Core.Storage;
using Moorfield.Core.Targets;
using Moorfield.Tests;

namespace Moorfield.Core.Tests;

/// <summary>A kind of target, as the conformance suite needs it.</summary>
/// <param name="Name">volume, disk or image.</param>
/// <param name="Make">Makes one in a folder; gives its path.</param>
/// <param name="Open">Opens one.</param>
/// <param name="State">Everything that it holds, in a text that is the same only for the same.</param>
/// <param name="All">Words of WHO for everybody that it can have.</param>
/// <param name="Part">Words of WHO for a part of them; null when there are no parts.</param>
/// <param name="IsEncrypted">True if a startup key opens it.</param>
public sealed record ConformanceKind(
    string Name, Func<TemporaryFolder, string> Make, Func<string, WriteInterceptor, Target> Open, Func<string, string> State, string All = "everyone",
    string? Part = null, bool IsEncrypted = false)
{
    /// <summary>A startup key that opens it; null when it is not encrypted.</summary>
    internal string? KeyFile => IsEncrypted ? Demo.StartupKey : null;

    /// <summary>How it is opened.</summary>
    internal OpenOptions Options() => KeyFile is not { } file ? OpenOptions.Default : new OpenOptions { Keys = new VolumeKeys(() => [file]) };

    internal static ConformanceKind Volume { get; } = new("volume", f => Demo.CopyFewTo(f), (path, interceptor) => Target.Open(path, interceptor),
        VolumeState.Files,
    Part: "ivy");

    internal static ConformanceKind Image { get; } = new(
        "image", f => Demo.CopyImageTo(f), (path, interceptor) => Target.Open(path, interceptor), path =>
        Convert.ToHexString(System.Security.Cryptography.SHA256.HashData(File.ReadAllBytes(path))), "newcomers");

    internal static ConformanceKind Disk { get; } = new(
        "disk", f => Demo.CopyDiskTo(f), (path, interceptor) => Target.Open(path, interceptor), Image.State, Part: "ivy");

    /// <summary>A disk that BitLocker encrypts. A startup key takes no time.</summary>
    internal static ConformanceKind EncryptedDisk { get; } = Disk with
    {
        Make = f => Demo.CopyEncryptedDiskTo(f),
        Open = (path, interceptor) => Target.Open(path, interceptor, EncryptedDisk!.Options()),
        IsEncrypted = true,
    };

    // The same with a world whose hives are laid out as those of an old machine are.
    internal static ConformanceKind OlderVolume { get; } = Volume with { Make = f => Demo.CopyOlderTo(f) };

    internal static ConformanceKind OlderImage { get; } = Image with { Make = f => Demo.CopyOlderImageTo(f) };

    internal static ConformanceKind OlderDisk { get; } = Disk with { Make = f => Demo.CopyOlderDiskTo(f) };

    /// <summary>An inventory that was saved of another kind.</summary>
    internal static ConformanceKind SavedOf(ConformanceKind kind) => new(
        kind.Name, folder =>
        {
            using var target = kind.Open(kind.Make(folder), new WriteInterceptor());
            var systems = target.Read(target.SelectEditions([]), KnownGuards.All);
            return folder.Write("saved.gz", SavedInventory.Write(target, systems));
        },
        (path, _) => SavedInventory.TryOpen(path)!, File.ReadAllText, kind.All, kind.Part);
}
