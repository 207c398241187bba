using System.Text.Json;
using System.Text.Json.Serialization;
using Moorfield.Core.Reading;

namespace Moorfield.Core.Targets;

// A saved inventory as JSON: what makes it a target again. Only Moorfield reads it. All of it is untrusted when it is read: whatever cannot be
// what it should be is a FormatException.

/// <param name="Data">Base 64; null when there is no such value.</param>
internal sealed record SavedPolicyValue(string Key, string Name, int Type, byte[]? Data);

internal sealed record SavedPolicyHive(string Hive, string? Sid, string Path, string? Error, ImmutableArray<SavedPolicyValue> Values);

internal sealed record SavedAccount(string Name, string Sid, string? Profile);

internal sealed record SavedBlock(string Family, DateTimeOffset? At);

internal sealed record SavedNote(string Code, string Text, string? Package);

internal sealed record SavedGap(string Kind, string? Sid, string? Family);

/// <param name="Sid">Null for the machine's.</param>
internal sealed record SavedOpeners(string? Sid, ImmutableArray<string> What);

internal sealed record SavedChoice(string? Sid, string What, string? Family);

/// <param name="At">Path of a hive, file, list or tree, or a full name.</param>
/// <param name="Key">Of the registry.</param>
/// <param name="Value">Name of a registry value, an entry's text, or the SID of rows.</param>
internal sealed record SavedPlace(string Type, string At, string? Key = null, string? Value = null);

internal sealed record SavedTrace(string Scope, string? Sid, string Kind, SavedPlace Place);

internal sealed record SavedPart(string FullName, string Kind, long Bytes, int Withheld, ImmutableArray<SavedTrace> Traces);

internal sealed record SavedData(string Sid, long Bytes, DateTimeOffset LastChange);

internal sealed record SavedExtension(string Category, ImmutableArray<string> Values);

internal sealed record SavedApplication(
    string Id, string? DisplayName, string? Description, bool ShownInStart, ImmutableArray<SavedExtension> Extensions);

internal sealed record SavedManifest(
    string? DisplayName, string? PublisherDisplayName, string? Description, bool IsFramework, bool IsResourcePackage,
    ImmutableArray<string> MainPackages, ImmutableArray<SavedApplication> Applications, ImmutableArray<SavedExtension> Extensions,
    ImmutableArray<string> Capabilities, ImmutableArray<string> HardwareCapabilities, ImmutableArray<string> Mentions);

internal sealed record SavedPackage(
    string FullName, string DisplayName, string? RawDisplayName, string NeutralName, string NameSource, string Publisher, string Role, string Origin,
    long Bytes, ImmutableArray<string> Accounts, bool Newcomers, bool Blocked, bool HasFiles, ImmutableArray<SavedPart> Parts,
    ImmutableArray<SavedTrace> FamilyTraces, ImmutableArray<string> Needs, ImmutableArray<string> Wants, ImmutableArray<SavedData> Data,
    SavedManifest? Manifest);

internal sealed record SavedLeftover(string Kind, string? Family, string? FullName, string? Sid, long Bytes, SavedPlace Place,
    string? Program = null);

internal sealed record SavedProgram(
    string Name, string Version, string Publisher, long Bytes, string? UninstallCommand, string? Sid, string? Key, string? QuietCommand = null,
    string? Folder = null, bool IsInstallerProduct = false, bool Newcomers = false, ImmutableArray<SavedStart>? Starts = null);

internal sealed record SavedStart(
    string Kind, string Name, string Command, string? Program, string Scope, string? Sid, bool IsOff, bool StartsWithWindows,
    string? Principal, SavedPlace Place);

internal sealed record SavedSystem(
    int? Edition, string Name, string Product, string EditionId, string Release, string Build, string Computer, string Manufacturer, string MachineId,
    ImmutableArray<SavedAccount> Accounts, ImmutableArray<SavedPackage> Packages, ImmutableArray<SavedBlock> Blocks, ImmutableArray<SavedNote> Notes,
    ImmutableArray<SavedLeftover> Leftovers, ImmutableArray<SavedProgram> Programs, ImmutableArray<SavedOpeners> Classic,
    ImmutableArray<SavedChoice> Chosen, ImmutableArray<SavedPolicyHive> Policies, ImmutableArray<SavedGap> Gaps, DateTimeOffset? AsOf,
    ImmutableArray<SavedStartBlock>? StartBlocks = null, ImmutableArray<HandOverRecord>? HandOvers = null,
    string? FirmwareId = null, string? Site = null);

internal sealed record SavedStartBlock(string Kind, string Name, SavedPlace Place);

internal sealed record SavedDocument(string Schema, string Target, string Kind, ImmutableArray<SavedSystem> Systems)
{
    internal const string KnownSchema = "moorfield.saved-inventory/1";
}

[JsonSourceGenerationOptions(PropertyNamingPolicy = JsonKnownNamingPolicy.CamelCase)]
[JsonSerializable(typeof(SavedDocument))]
internal sealed partial class SavedJson : JsonSerializerContext
{
    private const int MaxDepth = 64;

    /// <exception cref="JsonException">It is not one, or something is missing in it.</exception>
    internal static SavedDocument? Read(ReadOnlySpan<byte> content)
    {
        ReceivedJson.CheckLists(content, MaxDepth);
        var strict = new SavedJson(new JsonSerializerOptions(Default.Options)
        {
            MaxDepth = MaxDepth, RespectNullableAnnotations = true, RespectRequiredConstructorParameters = true,
        });
        return JsonSerializer.Deserialize(content, strict.SavedDocument);
    }
}
