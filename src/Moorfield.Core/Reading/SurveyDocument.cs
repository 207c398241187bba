using System.Buffers.Binary;
using System.Text.Json;
using System.Text.Json.Serialization;

namespace Moorfield.Core.Reading;

// What a survey holds, as docs/survey.md describes it. All of it is untrusted: what is not given is null.

internal sealed record SurveyShell(string? Version, string? Mode, int? Bits);

/// <summary>Something that the survey could not see.</summary>
/// <param name="Account">SID; null when it is about no account.</param>
/// <param name="Package">Full name; null when it is about no package.</param>
internal sealed record SurveyGap(string? Code, string? Text, string? Account, string? Package);

/// <summary>A registry value: one of the data is given.</summary>
internal sealed record SurveyValue(
    string? Name, string? Text, bool Expands, uint? Number, ulong? Long, ImmutableArray<string>? Texts, string? Bytes);

internal sealed record SurveyKeyJson(string? Key, ImmutableArray<SurveyValue>? Values);

/// <param name="Hive">machine, system, account or classes.</param>
internal sealed record SurveyHive(string? Hive, string? Account, ImmutableArray<SurveyKeyJson>? Keys);

/// <summary>A policy value that was looked up.</summary>
internal sealed record SurveyGuard(string? Hive, string? Key, string? Name);

internal sealed record SurveyUser(string? Account, string? State);

internal sealed record SurveyPackage(string? FullName, string? Place, bool? NonRemovable, string? Signature, string? Status,
    ImmutableArray<SurveyUser>? Users);

internal sealed record SurveyProvisioned(string? FullName, string? DisplayName);

/// <summary>A file with its text or its size, or a folder with the size of all that is in it.</summary>
/// <param name="Path">With a drive letter.</param>
/// <param name="Bytes">Of a file.</param>
/// <param name="Total">Bytes in all files of a folder.</param>
/// <param name="Changed">Seconds since 1970 of the last change in it.</param>
/// <param name="Unread">A folder that could not be looked into.</param>
internal sealed record SurveyFileJson(string? Path, string? Text, long? Bytes, long? Total, long? Changed, bool Unread);

/// <summary>The display name of an application (family!Id) or a package.</summary>
internal sealed record SurveyName(string? App, string? Package, string? Text);

internal sealed record SurveyDocument(
    string? Schema, string? Computer, DateTimeOffset? Made, double? Seconds, SurveyShell? Shell, ImmutableArray<SurveyGuard>? Guards,
    ImmutableArray<SurveyGap>? Gaps, ImmutableArray<SurveyHive>? Registry, ImmutableArray<SurveyPackage>? Packages,
    ImmutableArray<SurveyProvisioned>? Provisioned, ImmutableArray<SurveyFileJson>? Files, ImmutableArray<SurveyName>? Names)
{
    internal const string KnownSchema = "moorfield.survey/1";
    private const int MaxDepth = 12;

    /// <summary>Most bytes that are read; a survey of 200 packages has less than 10 MB.</summary>
    internal const long MaxBytes = 96L << 20;

    /// <summary>True if a file calls itself a survey of whatever version.</summary>
    internal static bool Is(ReadOnlySpan<byte> content)
    {
        try
        {
            return ReceivedJson.Schema(content)?.StartsWith("moorfield.survey/", StringComparison.Ordinal) == true;
        }
        catch (Exception e) when (e is JsonException or InvalidOperationException)
        {
            return false; // a survey that was interrupted calls itself one before that
        }
    }

    /// <summary>The contents of a file as UTF-8, whichever encoding it has: UTF-8 or UTF-16, with or without a byte order mark.</summary>
    internal static byte[] ToUtf8(byte[] content)
    {
        if (content.AsSpan().StartsWith(Encoding.UTF8.Preamble))
            return content[3..];
        if (content.Length < 2 || (content.Length & 1) != 0)
            return content;
        ushort first = BinaryPrimitives.ReadUInt16LittleEndian(content);
        var (encoding, skip) = first switch
        {
            0xFEFF => (Encoding.Unicode, 2),
            0xFFFE => (Encoding.BigEndianUnicode, 2),
            '{' => (Encoding.Unicode, 0),
            '{' << 8 => (Encoding.BigEndianUnicode, 0),
            _ => ((Encoding?)null, 0),
        };
        return encoding is null ? content : Encoding.Convert(encoding, Encoding.UTF8, content, skip, content.Length - skip);
    }

    /// <exception cref="InvalidDataException">No survey, one of another version, or a damaged one.</exception>
    internal static SurveyDocument Read(ReadOnlySpan<byte> content)
    {
        SurveyDocument? survey;
        try
        {
            ReceivedJson.CheckLists(content, MaxDepth);
            survey = JsonSerializer.Deserialize(content, SurveyJson.Default.SurveyDocument);
        }
        catch (JsonException e)
        {
            string where = e.Path is { Length: > 1 and < 80 } path ? $" at {path[2..]}" : "";
            throw new InvalidDataException(
                $"is damaged or was cut off: it cannot be read{where} (line {(e.LineNumber ?? 0) + 1}). Run the survey again", e);
        }
        if (survey?.Schema != KnownSchema)
            throw new InvalidDataException($"is not a survey that this version reads: its schema is '{survey?.Schema}', not '{KnownSchema}'");
        return survey;
    }
}

[JsonSourceGenerationOptions(PropertyNamingPolicy = JsonKnownNamingPolicy.CamelCase, MaxDepth = 12)]
[JsonSerializable(typeof(SurveyDocument))]
internal sealed partial class SurveyJson : JsonSerializerContext;
