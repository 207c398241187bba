using System.Collections.Immutable;
using System.Text;
using System.Text.Json;
using Moorfield.Core.Model;
using Moorfield.Core.Reading;
using Moorfield.Core.Storage;
using Moorfield.Core.Targets;

namespace Moorfield.Reporting;

/// <summary>Reads inventories that were saved as JSON, of this version and of earlier ones, which know less.</summary>
internal static class SavedInventory
{
    private const long MaxBytes = 256L << 20;

    /// <summary>Opens a saved inventory as a target; null when the file is not JSON, and so something else.</summary>
    /// <param name="mayBePartial">Whether one will do that was saved with filters.</param>
    /// <exception cref="MoorfieldException">It is JSON, but no inventory, or not a whole one.</exception>
    internal static SavedTarget? TryOpen(string path, bool mayBePartial = false)
    {
        using var file = RegularFile.OpenRead(path);
        if (file is null || !IsJson(file))
            return null;
        try
        {
            if (file.Length > MaxBytes)
                throw new MoorfieldException(ErrorKind.InvalidUsage, $"{path} is longer than any inventory.");
            byte[] content = new byte[file.Length];
            file.Position = 0;
            file.ReadExactly(content);
            if (content.AsSpan().StartsWith(Encoding.UTF8.Preamble))
                content = content[Encoding.UTF8.Preamble.Length..];
            string? schema = ReceivedJson.Schema(content);
            if (schema != DocumentBuilder.InventorySchema)
            {
                throw new MoorfieldException(
                    ErrorKind.InvalidUsage,
                    $"{path} is no inventory that this version reads: its schema is '{schema}', not '{DocumentBuilder.InventorySchema}'.");
            }
            if (DocumentJson.ReadInventory(content) is not { Systems.IsDefaultOrEmpty: false } inventory)
                throw new JsonException("It holds no systems.");
            if (inventory.Filtered && !mayBePartial)
            {
                throw new MoorfieldException(
                    ErrorKind.InvalidUsage, $"{path} was saved with filters, so it does not hold all packages. Save it again without them.");
            }
            return new SavedTarget(path, inventory.Kind, [.. inventory.Systems.Select(System)]);
        }
        catch (Exception e) when (e is JsonException or FormatException or InvalidOperationException or ArgumentException or EndOfStreamException)
        {
            throw new MoorfieldException(ErrorKind.InvalidUsage, $"{path} is JSON, but not an inventory saved by 'moorfield inventory --format "
                + $"json'.", e);
        }
    }

    private static bool IsJson(FileStream file)
    {
        for (int i = 0; i < 64; i++)
        {
            int next = file.ReadByte();
            if (next is not (' ' or '\t' or '\r' or '\n' or 0xEF or 0xBB or 0xBF))
                return next == '{';
        }
        return false;
    }

    private static SystemSnapshot System(SystemJson saved)
    {
        ImmutableArray<Account> accounts = [.. saved.Accounts.Select(a => new Account(a.Name, a.Sid, null))];
        string Sid(string name) => accounts.FirstOrDefault(a => a.Name == name)?.Sid ?? name;
        var snapshot = new SystemSnapshot(
            saved.Product, "", saved.Release, saved.Build, saved.Computer, saved.Manufacturer, "", accounts,
            [.. saved.Packages.Select(p => Package(p, Sid))], [.. saved.Blocks.Select(SavedFacts.Family)],
            [.. saved.Notes.Select(n => new SnapshotNote(n.Code, n.Text, n.Package is null ? null : SavedFacts.FullName(n.Package)))])
        {
            EditionNumber = saved.Edition,
            Name = saved.Name,
            Leftovers = saved.Leftovers.IsDefault ? [] : [.. saved.Leftovers.Where(l => l.At is not null).Select(l => new Leftover(
                SavedFacts.One<LeftoverKind>(l.Kind), l.Family is null ? null : SavedFacts.Family(l.Family),
                l.FullName is null ? null : SavedFacts.FullName(l.FullName), l.Account is null ? null : Sid(l.Account), l.Bytes,
                SavedFacts.Location(l.At!)))],
            ClassicPrograms = saved.Programs.IsDefault ? [] : [.. saved.Programs.Select(p => new ClassicProgram(
                p.Name, p.Version, p.Publisher, p.Bytes, p.UninstallCommand, p.Account is null ? null : Sid(p.Account)) { Key = p.Key })],
        };
        return saved.Facts is { } facts ? SavedFacts.AddTo(snapshot, facts) : snapshot;
    }

    private static InstalledPackage Package(PackageJson saved, Func<string, string> sid)
    {
        var fullName = SavedFacts.FullName(saved.FullName);
        var package = new InstalledPackage(
            fullName, saved.DisplayName, saved.RawDisplayName, saved.Publisher, SavedFacts.One<PackageRole>(saved.Role),
            SavedFacts.One<PackageOrigin>(saved.Origin), saved.Bytes, [.. saved.Accounts.Select(sid)], saved.Newcomers, saved.Blocked, [],
            [new PackagePart(fullName, PartKind.Main, saved.Bytes, [], saved.WithheldFiles)], [], null)
        {
            HasFiles = saved.Bytes > 0,
            NameSource = saved.NameSource is { } source ? SavedFacts.One<NameSource>(source) : NameSource.Manifest,
            NeutralName = saved.NeutralName ?? "",
        };
        if (saved.Facts is { } facts)
            return SavedFacts.AddTo(package, facts);
        // An inventory of an earlier version: what it says of the standing is all that is known of it.
        return package with
        {
            SavedVerdict = new Verdict(
                SavedFacts.One<PackageStanding>(saved.Standing),
                [.. saved.Reasons.Select(r => new Reason(r.Code, SavedFacts.One<ReasonKind>(r.Kind), r.Text, r.Text.TrimEnd('.'), r.Objects))]),
        };
    }
}
