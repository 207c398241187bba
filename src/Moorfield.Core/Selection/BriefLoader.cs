using System.Security.Cryptography;
using Moorfield.Core.Storage;

namespace Moorfield.Core.Selection;

/// <summary>Reads a brief with everything that it includes: from files, and from https addresses.</summary>
/// <param name="fetch">Gets the bytes at an address.</param>
public sealed class BriefLoader(Func<Uri, byte[]> fetch)
{
    /// <summary>Most bytes of one brief.</summary>
    public const int MaxBytes = YamlReader.MaxBytes;

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

    /// <summary>Loads the briefs of a recipe as one; what a later one says comes after what an earlier one does.</summary>
    /// <returns>Null when there is none.</returns>
    /// <exception cref="MoorfieldException">One cannot be had, is not what it should be, or is no brief.</exception>
    public Brief? Load(Recipe recipe)
    {
        Brief? all = null;
        foreach (var (place, sha256) in recipe.Briefs)
        {
            var brief = Load(IsAddress(place) ? place : recipe.ResolveInside(place), sha256);
            all = all is null ? brief : brief.Including(all);
        }
        return all;
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
        byte[] content = IsAddress(place) ? fetch(Address(place)) : YamlReader.ReadFile(place, shown, "brief");
        string digest = Convert.ToHexStringLower(SHA256.HashData(content));
        if (sha256 is not null && !digest.Equals(sha256, StringComparison.OrdinalIgnoreCase))
        {
            throw new MoorfieldException(RefusalReason.DigestDiffers,
                $"{shown} has the SHA-256 {digest}, not {sha256.ToLowerInvariant()}. Look at what was changed before you use it.");
        }
        var (brief, includes) = new BriefReader(shown).Read(YamlReader.Decode(content, shown));
        brief = brief with { Files = [(place, digest)] };
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

    private static string Shown(string place) => IsAddress(place) ? place : Path.GetFileName(place);
}
