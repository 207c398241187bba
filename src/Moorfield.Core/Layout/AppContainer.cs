using System.Buffers.Binary;
using System.Security.Cryptography;

namespace Moorfield.Core.Layout;

/// <summary>
/// The SIDs by which Windows names the app containers of families: S-1-15-2 and seven numbers of 32 bits, the SHA-256 of the name in small
/// letters. Source: docs/on-disk.md, "Registry" [tried].
/// </summary>
internal static class AppContainer
{
    private const int Numbers = 7;

    internal static string Sid(PackageFamilyName family)
    {
        byte[] hash = SHA256.HashData(Encoding.Unicode.GetBytes(family.ToString().ToLowerInvariant()));
        return "S-1-15-2-" + string.Join('-', Enumerable.Range(0, Numbers).Select(i => BinaryPrimitives.ReadUInt32LittleEndian(hash.AsSpan(i * 4))));
    }
}
