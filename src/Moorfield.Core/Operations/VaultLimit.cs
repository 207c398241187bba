using Moorfield.Core.Selection;
using Moorfield.Core.Storage;
using Moorfield.Core.Vaults;

namespace Moorfield.Core.Operations;

/// <summary>Drops the oldest restore points when a vault holds more than a person wants.</summary>
public static class VaultLimit
{
    /// <summary>The limit in bytes; null for none.</summary>
    /// <param name="text">As a person gave it; null for the settings'.</param>
    /// <exception cref="MoorfieldException">It is no size.</exception>
    public static long? Parse(string? text) => text is null ? Settings.Current.VaultLimit
        : TextFormat.ParseSize(text) ?? throw new MoorfieldException(ErrorKind.InvalidUsage, $"'{text}' is not a size such as 500MB or 20GB.");

    /// <summary>Brings a vault within its limit after a run.</summary>
    /// <param name="newest">The restore point just recorded, which stays.</param>
    /// <param name="report">Called with what is done, a sentence each, and why something is not.</param>
    public static void Enforce(long limit, string vaultPath, int newest, RunLog log, Action<string> report)
    {
        using var vault = Vault.OpenExisting(vaultPath, new WriteInterceptor());
        try
        {
            if (vault is null || VaultMaintenance.EnforceLimit(vault, limit, newest, report) is not { } deletion)
                return;
            report($"{vaultPath} holds {TextFormat.Size(vault.StoredBytes)}, more than {TextFormat.Size(limit)}. The oldest restore points go: "
                + $"{TextFormat.List(deletion.Gone.Select(g => $"{g.Point.Number} ({g.Point.Title})"))}.");
            var (given, deleted, _) = VaultMaintenance.Delete(vault, deletion, TimeProvider.System, _ => true);
            report($"{TextFormat.Size(given)} given back.");
            foreach (var gone in deleted.Gone)
                log.Write("drop", vaultPath, gone.Point.Number, "done", $"restore point dropped: {gone.Point.Title}");
        }
        catch (MoorfieldException e)
        {
            report($"The vault stays larger than its limit: {e.Message}");
        }
    }
}
