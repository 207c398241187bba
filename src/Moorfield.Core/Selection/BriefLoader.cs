using System.Security.Cryptography;
using Moorfield.Core.Storage;

namespace Moorfield.Core.Selection;

/// <summary>Reads a brief with everything that it includes: from files, and from https addresses.</summary>
/// <param name="fetch">Gets the bytes at an address.</param>
public sealed class BriefLoader(Func<Uri, byte[]> fetch)
{
    /// <summary>Most bytes of one brief.</summary>
    public const int MaxBytes = 4 * YamlNode.MaxLength;

    private const int MaxIncluded = 64;
    private int _included;

    /// <param name="place">A file's path, or an https address.</param>
    /// <param name="sha256">What its SHA-256 must be, in hexadecimal; null when that does not matter.</param>
    /// <exception cref="MoorfieldException">It cannot be had, is not what it should be, or is no brief.</exception>
    public Brief Load(string place, string? sha256 = null)
    {
        _included = 0;
        return Load(IsAddress(place) ? place : Path.GetFullPath(place), place, sha256, []);
    }

    /// <summary>Loads the brief of the ring that a brief waits for.</summary>
    /// <exception cref="MoorfieldException">It cannot be had, is no brief, or is the same one.</exception>
    public Brief LoadRing(Brief brief, RingCondition after)
    {
        if (IsAddress(brief.Name))
            throw new MoorfieldException(ErrorKind.InvalidUsage, $"{after.Source}: a brief from an address cannot wait for a file.");
        string file = Path.Combine(Path.GetDirectoryName(brief.Name) ?? "", after.Brief);
        return after.Brief == brief.FileName ? throw new MoorfieldException(ErrorKind.InvalidUsage, $"{after.Source}: a ring cannot wait for itself.")
            : Load(file);
    }

    private static bool IsAddress(string place) => place.Contains("://", StringComparison.Ordinal);

    private Brief Load(string place, string shown, string? sha256, IReadOnlyCollection<string> above)
    {
        if (above.Contains(place))
            throw new MoorfieldException(ErrorKind.InvalidUsage, $"{shown} includes itself, by way of {string.Join(", ", above.Select(Shown))}.");
        if (_included++ > MaxIncluded)
            throw new MoorfieldException(ErrorKind.InvalidUsage, $"{shown} is one brief too many: at most {MaxIncluded} may be included in all.");
        byte[] content = IsAddress(place) ? fetch(Address(place)) : ReadFile(place, shown);
        if (sha256 is not null && !Convert.ToHexString(SHA256.HashData(content)).Equals(sha256, StringComparison.OrdinalIgnoreCase))
        {
            throw new MoorfieldException(RefusalReason.DigestDiffers,
                $"{shown} has the SHA-256 {Convert.ToHexStringLower(SHA256.HashData(content))}, not {sha256.ToLowerInvariant()}. Look at what was "
                    + "changed before you use it.");
        }
        var (brief, includes) = new BriefReader(shown).Read(Decode(content, shown));
        var included = Brief.Empty;
        foreach (var include in includes)
        {
            string target = Resolve(include, place);
            brief = brief with { Included = [.. brief.Included, target] };
            included = Load(target, IsAddress(target) ? target : Shown(target), include.Sha256, [.. above, place]).Including(included);
        }
        return brief.Including(included);
    }

    /// <summary>An included brief lies next to the one that names it, or at an address with a digest.</summary>
    private static string Resolve(BriefInclude include, string from)
    {
        if (include.Sha256 is not null)
            return include.Place;
        if (IsAddress(include.Place))
            throw new MoorfieldException(ErrorKind.InvalidUsage, $"{include.Source}: a brief from an address is included with url and sha256.");
        if (IsAddress(from))
            throw new MoorfieldException(ErrorKind.InvalidUsage, $"{include.Source}: a brief from an address can only include others by url and "
                + "sha256.");
        if (include.Place.Contains('/', StringComparison.Ordinal) || include.Place is "." or "..")
            throw new MoorfieldException(ErrorKind.InvalidUsage,
                $"{include.Source}: '{include.Place}' is not a file in the folder of this brief. Give a file name without a folder.");
        return Path.Combine(Path.GetDirectoryName(from)!, include.Place);
    }

    private static Uri Address(string place)
    {
        if (!Uri.TryCreate(place, UriKind.Absolute, out var address) || (address.Scheme != Uri.UriSchemeHttps && address.Scheme != Uri.UriSchemeHttp)
        || address.UserInfo.Length > 0)
            throw new MoorfieldException(ErrorKind.InvalidUsage,
                $"'{place}' is not an address that a brief can be fetched from. Give a file or an https address.");
        return address.Scheme == Uri.UriSchemeHttps || address.IsLoopback
            ? address
            : throw new MoorfieldException(ErrorKind.InvalidUsage,
                $"{place} would be fetched without encryption, so anybody on the way could change it. Use https; http is for this machine only.");
    }

    private static byte[] ReadFile(string path, string shown)
    {
        if (RegularFile.KindOf(path) is null)
            throw new MoorfieldException(ErrorKind.InvalidUsage, $"There is no brief {shown}.");
        try
        {
            using var file = RegularFile.OpenNamed(path);
            if (file.Length > MaxBytes)
                throw new MoorfieldException(ErrorKind.InvalidUsage,
                    $"{shown} has {file.Length:N0} bytes, more than the {MaxBytes:N0} that a brief may have.");
            using var content = new MemoryStream();
            file.CopyTo(content);
            return content.ToArray();
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            throw new MoorfieldException(ErrorKind.Failed, $"{shown} cannot be read. {e.Message}", e);
        }
    }

    private static string Decode(byte[] content, string shown)
    {
        try
        {
            return new UTF8Encoding(false, true)
            .GetString(content.AsSpan(content.AsSpan().StartsWith(Encoding.UTF8.Preamble) ? Encoding.UTF8.Preamble.Length : 0));
        }
        catch (DecoderFallbackException e)
        {
            throw new MoorfieldException(ErrorKind.InvalidUsage, $"{shown} is not a text in UTF-8.", e);
        }
    }

    private static string Shown(string place) => IsAddress(place) ? place : Path.GetFileName(place);
}
