using System.Diagnostics.CodeAnalysis;
using System.Globalization;
using System.Security.Cryptography;

namespace Moorfield.Formats.Native;

/// <summary>
/// What this program needs of the machine it runs on, tried before it is relied on: some of it ends the process, or gives wrong answers, where
/// it is missing.
/// </summary>
public static unsafe partial class NativeLibraries
{
    private const string DescriptorFolder = "/proc/self/fd", Maps = "/proc/self/maps";
    private const string EmptyDigest = "e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855";
    private const int Lazily = 1;

    // As the runtime looks for them; without any it aborts.
    private static readonly string[] OpenSsl = ["libssl.so.3", "libssl.so.1.1"];

    /// <summary>True for the portable build, which has the libraries inside instead of loading the machine's.</summary>
    [FeatureSwitchDefinition(Inside)]
    public static bool AreInside => AppContext.TryGetSwitch(Inside, out bool inside) && inside;

    private const string Inside = "Moorfield.LibrariesInside";

    /// <summary>Makes sure that digests and random numbers can be had, and files be opened by their descriptors.</summary>
    /// <exception cref="DllNotFoundException">Something is missing; the message is a full sentence.</exception>
    public static void Check()
    {
        if (!Directory.Exists(DescriptorFolder))
        {
            throw new DllNotFoundException(
                $"{DescriptorFolder} is not there, through which files are opened. Mount /proc (mount -t proc proc /proc).");
        }
        if (!AreInside && !OpenSsl.Any(name => Load(name) is null))
            throw Missing("OpenSSL", OpenSsl[0], "libssl3");
        try
        {
            _ = RandomNumberGenerator.GetBytes(1);
            if (Convert.ToHexStringLower(SHA256.HashData([])) != EmptyDigest)
                throw new DllNotFoundException($"OpenSSL gives wrong digests. Install the package {Package("libssl3")} again.");
        }
        catch (CryptographicException e)
        {
            throw new DllNotFoundException($"OpenSSL cannot be used: {e.Message}", e);
        }
    }

    /// <summary>The message for a library that could not be loaded, with the loader's own reason.</summary>
    /// <param name="library">As people call it.</param>
    /// <param name="file">That the loader looks for.</param>
    /// <param name="package">The package that has it, by its name in Debian 12.</param>
    internal static DllNotFoundException Missing(string library, string file, string package, Exception? inner = null) => new(
        Load(file) is { } reason ? $"{library} cannot be loaded ({reason}). Install the package {Package(package)}."
            : $"{library} cannot be used{(inner is null ? "" : $" ({inner.Message.Split('\n')[0].TrimEnd('.')})")}. "
                + $"Install the package {Package(package)}.",
        inner);

    /// <summary>The name of a library's package on the distribution that runs; its name in Debian 12 where that is not known.</summary>
    /// <param name="package">Its name in Debian 12.</param>
    /// <param name="release">Lines of os-release; those of this machine when null.</param>
    internal static string Package(string package, IEnumerable<string>? release = null)
    {
        const string Release = "/etc/os-release";
        string Of(string key) => (release ?? (File.Exists(Release) ? File.ReadLines(Release) : []))
            .FirstOrDefault(l => l.StartsWith(key + '=', StringComparison.Ordinal))?[(key.Length + 1)..].Trim('"') ?? "";
        _ = decimal.TryParse(Of("VERSION_ID"), CultureInfo.InvariantCulture, out decimal version);
        return (Of("ID"), package) switch
        {
            ("debian", "libntfs-3g89" or "libwim15" or "libssl3") when version >= 13 => package + "t64",
            ("ubuntu", "libntfs-3g89" or "libwim15" or "libssl3") when version >= 24.04m => package + "t64",
            ("fedora" or "rhel" or "rocky" or "almalinux" or "centos", _) => package switch
            {
                "libhivex0" => "hivex-libs", "libntfs-3g89" => "ntfs-3g-libs", "libwim15" => "wimlib-libs", "libssl3" => "openssl-libs",
                "qemu-utils" => "qemu-img", _ => package,
            },
            _ => package,
        };
    }

    /// <summary>The file that a library was loaded from; null when it is not loaded.</summary>
    /// <param name="name">With which the file's name begins.</param>
    internal static string? PathOf(string name) => (File.Exists(Maps) ? File.ReadLines(Maps) : [])
        .Select(l => l.IndexOf('/', StringComparison.Ordinal) is > 0 and var at ? l[at..] : "")
        .FirstOrDefault(p => Path.GetFileName(p).StartsWith(name, StringComparison.Ordinal));

    /// <summary>Why the loader cannot load a library; null when it can.</summary>
    internal static string? Load(string file)
    {
        if (AreInside)
            return null;
        _ = LastError();
        if (Open([.. Encoding.UTF8.GetBytes(file), 0], Lazily) != 0)
            return null;
        byte* error = LastError();
        return error is null ? "no reason given" : Encoding.UTF8.GetString(MemoryMarshal.CreateReadOnlySpanFromNullTerminated(error));
    }

    [LibraryImport("libc.so.6", EntryPoint = "dlopen")]
    private static partial nint Open(ReadOnlySpan<byte> file, int flags);

    [LibraryImport("libc.so.6", EntryPoint = "dlerror")]
    private static partial byte* LastError();
}
