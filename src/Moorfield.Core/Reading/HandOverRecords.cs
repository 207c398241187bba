using System.Text.Json;

namespace Moorfield.Core.Reading;

/// <summary>Reads what the scripts of hand-overs recorded on a machine. Source: HandOver/common.ps1 and remediate.ps1.</summary>
internal static class HandOverRecords
{
    private const string Place = @"Moorfield\HandOver", Schema = "moorfield.result/1";
    private const int MaxText = 100_000, MaxLine = 2000, MaxDepth = 4, PlanDigits = 16, HighestCode = 5;

    /// <summary>All records of a machine, the last run first.</summary>
    internal static IEnumerable<HandOverRecord> Read(IRegistry software) =>
        (software.Find(Place)?.Children() ?? []).Where(k => k.Name.Length == PlanDigits && k.Name.All(char.IsAsciiHexDigitLower)).Select(Read)
            .OrderByDescending(r => r.When).ThenBy(r => r.Plan, StringComparer.Ordinal);

    private static HandOverRecord Read(IRegistryKey key)
    {
        var record = new HandOverRecord(key.Name, key.Text("Series") ?? "", null, null, "", key.Text("Undone") ?? "");
        if (key.Text("Result") is not { Length: > 0 and <= MaxText } text)
            return record;
        try
        {
            using var document = JsonDocument.Parse(text, new JsonDocumentOptions { MaxDepth = MaxDepth });
            var result = document.RootElement;
            bool isOurs = result.GetProperty("schema").GetString() == Schema && result.GetProperty("plan").GetString() == key.Name;
            return isOurs && result.GetProperty("code").TryGetInt32(out int code) && code is >= 0 and <= HighestCode
                && result.GetProperty("when").TryGetDateTimeOffset(out var when)
                && result.GetProperty("line").GetString() is { Length: <= MaxLine } line
                ? record with { When = when, Code = code, Line = line } : record;
        }
        catch (Exception e) when (e is JsonException or InvalidOperationException or KeyNotFoundException)
        {
            return record; // whoever may write there may write anything
        }
    }
}
