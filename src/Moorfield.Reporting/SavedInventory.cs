using System.Collections.Immutable;
using System.Text.Json;
using Moorfield.Core.Assessment;
using Moorfield.Core.Model;
using Moorfield.Formats.Appx;

namespace Moorfield.Reporting;

/// <summary>Reads inventories that were saved as JSON.</summary>
internal static class SavedInventory
{
    private const long MaxBytes = 256L << 20;

    /// <summary>Null when the file is not JSON, and so something else.</summary>
    /// <exception cref="MoorfieldException">It is JSON, but no inventory.</exception>
    internal static ImmutableArray<ComparedSystem>? TryRead(string path)
    {
        if (!File.Exists(path) || !IsJson(path))
            return null;
        try
        {
            if (new FileInfo(path).Length > MaxBytes)
                throw new MoorfieldException(Trouble.Misused, $"{path} is longer than any inventory.");
            using var file = File.OpenRead(path);
            var inventory = JsonSerializer.Deserialize(file, DocumentJson.Default.InventoryJson);
            return inventory is { Schema: DocumentMaker.InventorySchema, Systems.IsDefault: false }
                ? [.. inventory.Systems.Select(System)]
                : throw new MoorfieldException(Trouble.Misused, $"{path} is no inventory that this version reads: its schema is '{inventory?.Schema}', not '{DocumentMaker.InventorySchema}'.");
        }
        catch (Exception e) when (e is JsonException or FormatException or NullReferenceException or InvalidOperationException)
        {
            throw new MoorfieldException(Trouble.Misused, $"{path} is JSON, but not an inventory saved by 'moorfield inventory --format json'.", e);
        }
    }

    private static bool IsJson(string path)
    {
        using var file = File.OpenRead(path);
        for (int i = 0; i < 64; i++)
        {
            int next = file.ReadByte();
            if (next is not (' ' or '\t' or '\r' or '\n' or 0xEF or 0xBB or 0xBF))
                return next == '{';
        }
        return false;
    }

    private static ComparedSystem System(SystemJson system) => new(system.Name, system.Edition, system.Build, [.. system.Packages.Select(Package)], system.Blocks);

    private static ComparedPackage Package(PackageJson package) => new(
        package.Family, package.DisplayName, PackageVersion.TryParse(package.Version, out var version) ? version : throw new FormatException(), package.Architecture,
        Enum.Parse<PackageRole>(package.Role, ignoreCase: true).ToString(), package.Bytes, package.Accounts, package.Newcomers);
}
