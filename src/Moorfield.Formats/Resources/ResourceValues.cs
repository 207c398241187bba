namespace Moorfield.Formats.Resources;

/// <summary>The subject of a qualifier. Source: docs/resources.md, "Qualifiers" [tried].</summary>
public enum QualifierKind
{
    /// <summary>A language tag.</summary>
    Language,
    /// <summary>A contrast theme.</summary>
    Contrast,
    /// <summary>A display scale in per cent.</summary>
    Scale,
    /// <summary>A person's home region.</summary>
    HomeRegion,
    /// <summary>A size in pixels.</summary>
    TargetSize,
    /// <summary>Writing from left or from right.</summary>
    LayoutDirection,
    /// <summary>Light or dark.</summary>
    Theme,
    /// <summary>Another form, such as unplated.</summary>
    AlternateForm,
    /// <summary>The capability of the graphics card.</summary>
    DXFeatureLevel,
    /// <summary>A configuration that a program names.</summary>
    Configuration,
    /// <summary>The kind of device.</summary>
    DeviceFamily,
    /// <summary>One that a program defines.</summary>
    Custom,
}

/// <summary>A condition under which a value is meant.</summary>
/// <param name="Kind">The subject; an unknown number is kept.</param>
/// <param name="Priority">The higher, the more it counts.</param>
/// <param name="Fallback">How well it fits the defaults of the build, 0 to 1000.</param>
public readonly record struct ResourceQualifier(QualifierKind Kind, string Value, int Priority, int Fallback);

/// <summary>How a value is stored.</summary>
public enum ResourceValueKind
{
    /// <summary>Text in UTF-16.</summary>
    String,
    /// <summary>A path in UTF-16.</summary>
    Path,
    /// <summary>Bytes.</summary>
    EmbeddedData,
    /// <summary>Text in ASCII.</summary>
    AsciiString,
    /// <summary>Text in UTF-8.</summary>
    Utf8String,
    /// <summary>A path in ASCII.</summary>
    AsciiPath,
    /// <summary>A path in UTF-8.</summary>
    Utf8Path,
}

/// <summary>One value of a resource.</summary>
/// <param name="Qualifiers">All must fit; none for a neutral one.</param>
/// <param name="Bytes">As stored, without the bytes after it.</param>
public sealed record ResourceCandidate(ImmutableArray<ResourceQualifier> Qualifiers, ResourceValueKind Kind, ReadOnlyMemory<byte> Bytes)
{
    private const int MaxText = 32_768;

    /// <summary>True if it is text to be shown.</summary>
    public bool IsText => Kind is ResourceValueKind.String or ResourceValueKind.AsciiString or ResourceValueKind.Utf8String;

    /// <summary>The text or path up to its first NUL; empty for bytes. Broken characters are replaced, and it ends after 32,768.</summary>
    public string Text
    {
        get
        {
            if (Kind == ResourceValueKind.EmbeddedData)
                return "";
            var encoding = Kind switch
            {
                ResourceValueKind.String or ResourceValueKind.Path => System.Text.Encoding.Unicode,
                ResourceValueKind.AsciiString or ResourceValueKind.AsciiPath => System.Text.Encoding.Latin1,
                _ => System.Text.Encoding.UTF8,
            };
            string text = encoding.GetString(Bytes.Span);
            int end = text.IndexOf('\0', StringComparison.Ordinal);
            return text[..Math.Min(end < 0 ? text.Length : end, MaxText)];
        }
    }
}
