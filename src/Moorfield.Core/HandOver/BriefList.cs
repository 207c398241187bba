using System.Security.Cryptography;
using System.Text.Encodings.Web;
using System.Text.Json;
using System.Text.Json.Serialization;

namespace Moorfield.Core.HandOver;

internal sealed record ListedPackage(string Family, string Title, bool Part);

internal sealed record ListedGuard(string Hive, string Key, string Name, string Kind, JsonElement Data);

internal sealed record ListJson(
    long Issue, string NotAfter, ImmutableArray<string> For, ImmutableArray<ListedPackage> Remove, ImmutableArray<string> Keep,
    ImmutableArray<string> Block, ImmutableArray<ListedGuard> Guards);

/// <summary>
/// The plain list that scripts of a hand-over fetch, so that it can be changed at one place. Two lines of ASCII: the digest of the second,
/// and the list in JSON. docs/running-machines.md describes it.
/// </summary>
public static class BriefList
{
    private static readonly ListContext Context =
        new(new JsonSerializerOptions { PropertyNamingPolicy = JsonNamingPolicy.CamelCase, Encoder = JavaScriptEncoder.Default });

    /// <summary>Writes a list.</summary>
    /// <param name="issue">Its number, from 1: a machine takes no older one than it had.</param>
    /// <param name="notAfter">The last day on which it is good.</param>
    public static byte[] Write(HandOverPlan plan, long issue, DateOnly notAfter)
    {
        var list = new ListJson(
            issue, notAfter.ToString("yyyy-MM-dd", CultureInfo.InvariantCulture),
            [.. plan.Accounts.Select(a => a == HandOverPlan.AllAccounts ? "accounts" : a), .. plan.Newcomers ? ["newcomers"] : Array.Empty<string>()],
            [.. plan.Remove.Select(r => new ListedPackage(r.Family.ToString(), r.Title, r.IsPart))],
            [.. plan.Keep.Select(f => f.ToString())], [.. plan.Block.Select(f => f.ToString())],
            [.. plan.Guards.Select(g => new ListedGuard(g.Hive.ToString(), g.Key, g.Value.Name, HandOverPlan.KindOf(g.Value)!, Data(g.Value)))]);
        string body = JsonSerializer.Serialize(list, Context.ListJson);
        string digest = Convert.ToHexStringLower(SHA256.HashData(Encoding.ASCII.GetBytes(body)));
        return Encoding.ASCII.GetBytes($"moorfield.list/2 sha256:{digest}\n{body}\n");
    }

    private static JsonElement Data(HiveValue value) => value.Type switch
    {
        HiveValueType.DWord => JsonSerializer.SerializeToElement(value.AsDWord()!.Value, Context.UInt32),
        HiveValueType.QWord => JsonSerializer.SerializeToElement(BitConverter.ToInt64(value.Data.Span).ToString(), Context.String),
        HiveValueType.MultiString => JsonSerializer.SerializeToElement(value.AsStrings()!, Context.StringArray),
        _ => JsonSerializer.SerializeToElement(value.AsString()!, Context.String),
    };
}

[JsonSerializable(typeof(ListJson))]
[JsonSerializable(typeof(uint))]
[JsonSerializable(typeof(string))]
[JsonSerializable(typeof(string[]))]
internal sealed partial class ListContext : JsonSerializerContext;
