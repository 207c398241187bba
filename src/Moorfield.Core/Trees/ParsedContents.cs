using System.Collections.Concurrent;

namespace Moorfield.Core.Trees;

/// <summary>
/// Results of parsing files, by their contents: machines of a fleet have mostly the same manifests. May be used by several threads.
/// </summary>
public sealed class ParsedContents
{
    // Manifests have a few KB; what a hostile survey gives instead is not kept.
    private const int MaxBytes = 64 << 10, MaxCount = 20_000;

    private readonly ConcurrentDictionary<byte[], object> _parsed = new(ContentComparer.Instance);

    /// <summary>The result for a content, an earlier one if there is one of that type.</summary>
    /// <param name="parse">Its result is immutable. What it throws is thrown each time.</param>
    internal T Get<T>(byte[] content, Func<Stream, T> parse) where T : class
    {
        if (_parsed.TryGetValue(content, out object? known) && known is T earlier)
            return earlier;
        var result = parse(new MemoryStream(content, writable: false));
        if (content.Length <= MaxBytes && _parsed.Count < MaxCount)
            _parsed[content] = result;
        return result;
    }
}
