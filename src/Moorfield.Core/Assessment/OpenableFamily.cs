namespace Moorfield.Core.Assessment;

/// <summary>File types and link schemes that people know under one name.</summary>
/// <param name="Name">As in "it opens pictures".</param>
internal sealed record OpenableFamily(string Name, ImmutableHashSet<string> Members)
{
    /// <summary>The scheme by which every other app asks for the shop front. [doc]</summary>
    internal const string ShopScheme = "ms-windows-store";

    internal static readonly ImmutableArray<OpenableFamily> All =
    [
        Of("pictures", ".png", ".jpg", ".jpeg", ".jpe", ".jfif", ".gif", ".bmp", ".tif", ".tiff", ".webp", ".heic", ".heif", ".avif", ".svg"),
        Of("audio", ".mp3", ".flac", ".wav", ".m4a", ".aac", ".ogg", ".oga", ".opus", ".wma", ".mid"),
        Of("video", ".mp4", ".m4v", ".mkv", ".avi", ".mov", ".wmv", ".webm", ".mpg", ".mpeg", ".3gp"),
        Of("PDF files", ".pdf"),
        Of("mail", "mailto", ".eml"),
        Of("web pages", "http", "https", ".htm", ".html", ".xhtml", ".mht"),
    ];

    /// <summary>File types of music and films.</summary>
    internal static readonly ImmutableHashSet<string> Media =
        All.First(f => f.Name == "audio").Members.Union(All.First(f => f.Name == "video").Members);

    // Schemes that any page, document or person may use. An app's own scheme is only of use to those who know the app.
    private static readonly ImmutableHashSet<string> PublicSchemes =
        Set("mailto", "http", "https", "ftp", "tel", "sms", "callto", "sip", "sips", "xmpp", "webcal", "geo", "news", "nntp", "magnet", "rtsp");

    internal static bool IsPublicScheme(string scheme) => PublicSchemes.Contains(scheme);

    private static OpenableFamily Of(string name, params string[] members) => new(name, Set(members));

    private static ImmutableHashSet<string> Set(params string[] members) => ImmutableHashSet.Create(StringComparer.OrdinalIgnoreCase, members);
}
