using System.Security.Cryptography;
using Moorfield.Core.Selection;
using Moorfield.Core.Storage;

namespace Moorfield.Core.Vaults;

/// <summary>
/// The file with the key that opens what vaults keep encrypted, where the key of the volume does not: a text with one line of 64 hexadecimal
/// digits. It lies outside of every vault, and only its owner may read it.
/// </summary>
public static class VaultKeyFile
{
    private const int Limit = 4096;
    private const int IdDigits = 8;
    private const UnixFileMode Others = UnixFileMode.GroupRead | UnixFileMode.GroupWrite | UnixFileMode.OtherRead | UnixFileMode.OtherWrite;

    /// <summary>The path that the settings name, or else one in their folder.</summary>
    public static string FullPath => Settings.Current.VaultKey ?? UsualPath;

    private static string UsualPath => Path.Combine(Path.GetDirectoryName(Settings.FilePath)!, "vault.key");

    /// <summary>The name of a key, which says nothing about the key itself.</summary>
    internal static string IdOf(ReadOnlySpan<byte> key)
    {
        Span<byte> id = stackalloc byte[IdDigits / 2];
        HKDF.DeriveKey(HashAlgorithmName.SHA256, key, id, [], "moorfield vault key's name"u8);
        return Convert.ToHexStringLower(id);
    }

    /// <summary>Reads the file.</summary>
    /// <returns>The key, 32 bytes, which the caller clears; null when there is no file.</returns>
    /// <exception cref="LockedPointException">It cannot be read, or holds no key.</exception>
    internal static byte[]? Read(string path)
    {
        byte[] text = new byte[Limit];
        try
        {
            using var file = RegularFile.OpenRead(path);
            if (file is null)
                return null;
            int length = file.ReadAtLeast(text, Limit, throwOnEndOfStream: false);
            return KeyIn(text.AsSpan(0, length)) ?? throw new LockedPointException(
                $"{path} holds no key of a vault: none of its lines is 64 hexadecimal digits. Put back your copy of it.");
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            throw new LockedPointException($"The vault's key {path} cannot be read: {e.Message}", e);
        }
        finally
        {
            CryptographicOperations.ZeroMemory(text);
        }
    }

    private static byte[]? KeyIn(ReadOnlySpan<byte> text)
    {
        foreach (var range in text.Split((byte)'\n'))
        {
            var line = text[range].Trim(" \t\r"u8);
            byte[] key = new byte[SealingKey.Bytes];
            if (line.Length == 2 * key.Length && Convert.FromHexString(line, key, out _, out _) == System.Buffers.OperationStatus.Done)
                return key;
        }
        return null;
    }

    /// <summary>Reads the file for a run that encrypts, and makes it when it is missing.</summary>
    /// <param name="vault">Path of the vault, which it must not lie in.</param>
    /// <returns>The key, 32 bytes, which the caller clears, and whether it is new.</returns>
    /// <exception cref="MoorfieldException">It lies in the vault, others may read it, or it cannot be made.</exception>
    internal static (byte[] Key, bool IsNew) ReadOrMake(string path, string vault, WriteInterceptor interceptor)
    {
        string folder = Path.GetDirectoryName(path)!;
        try
        {
            // Another place may be on a disk that is not mounted now.
            if (path == UsualPath)
                Directory.CreateDirectory(folder, UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.UserExecute);
            else if (!Directory.Exists(folder))
                throw new IOException($"there is no folder {folder}.");
            if (RegularFile.KindOf(path, followsLinks: false) is { } kind
                && (RegularFile.KindOf(path) is not { } followed || !RegularFile.DescribesFile(followed)))
                throw new IOException($"{kind} is there instead of a file.");
            string real = RegularFile.RealPath(folder) ?? folder, realVault = RegularFile.RealPath(vault) ?? vault;
            if (real == realVault || real.StartsWith(realVault + "/", StringComparison.Ordinal))
            {
                throw new MoorfieldException(ErrorKind.InvalidUsage, $"The vault's key {path} must not lie in the vault {vault} itself. Name another "
                    + "place in the settings (vault-key). Nothing was changed.");
            }
            using var place = Folder.Open(folder, interceptor);
            // Two runs may need it for the first time at the same moment.
            place.Lock();
            if (Read(path) is { } there)
            {
                if ((File.GetUnixFileMode(path) & Others) == UnixFileMode.None)
                    return (there, false);
                CryptographicOperations.ZeroMemory(there);
                throw new MoorfieldException(ErrorKind.Failed,
                    $"The vault's key {path} can be read by others. Make it yours alone ('chmod 600'), and try again. Nothing was changed.");
            }
            return (Make(place, path), true);
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            throw new MoorfieldException(ErrorKind.Failed, $"The vault's key {path} cannot be made: {e.Message} "
                + "Name another place in the settings (vault-key), or use --plain-vault. Nothing was changed.", e);
        }
    }

    private static byte[] Make(Folder place, string path)
    {
        byte[] key = RandomNumberGenerator.GetBytes(SealingKey.Bytes);
        byte[] heading = Encoding.UTF8.GetBytes($"""
            # The key {IdOf(key)} of Moorfield's vaults. With it, restore points of encrypted volumes can be undone.
            # Keep a copy where the vaults are not, and show it to nobody.

            """);
        byte[] text = new byte[heading.Length + (2 * key.Length) + 1];
        heading.CopyTo(text, 0);
        Convert.TryToHexStringLower(key, text.AsSpan(heading.Length), out _);
        text[^1] = (byte)'\n';
        AtomicFile.Write(place, Path.GetFileName(path), text, Folder.PrivateMode, $".{Path.GetFileName(path)}.part");
        CryptographicOperations.ZeroMemory(text);
        return key;
    }
}
