using System.Net.Http.Headers;
using System.Net;
using System.Security.Cryptography;
using Moorfield.Core.Storage;

namespace Moorfield.Core.Selection;

/// <summary>
/// Fetches briefs by https, with retries and time limits. What came is kept with its ETag, so that it is fetched again only when it was
/// changed, and can be used when the server cannot be reached.
/// </summary>
public sealed class BriefFetcher : IDisposable
{
    private const int Retries = 2;
    private static readonly TimeSpan Attempt = TimeSpan.FromSeconds(10);
    private static readonly TimeSpan Total = TimeSpan.FromSeconds(30);
    private readonly HttpClient _client;
    private readonly TimeSpan _delay;
    private readonly string _cache;
    private readonly Action<string> _warn;

    /// <param name="cache">Folder for what was fetched; made when it is needed.</param>
    /// <param name="warn">Called when a kept copy is used instead.</param>
    /// <param name="delay">Before the first retry; one second when null.</param>
    public BriefFetcher(string cache, Action<string> warn, TimeSpan? delay = null)
    {
        _cache = cache;
        _warn = warn;
        _client = new HttpClient(new SocketsHttpHandler { AllowAutoRedirect = false, AutomaticDecompression = DecompressionMethods.All })
        {
            MaxResponseContentBufferSize = BriefLoader.MaxBytes,
            Timeout = Timeout.InfiniteTimeSpan, // the limits of SendAsync count
        };
        _delay = delay ?? TimeSpan.FromSeconds(1);
    }

    /// <summary>$XDG_CACHE_HOME/moorfield/briefs, or the same below ~/.cache.</summary>
    public static string DefaultCache =>
        Path.Combine(
            Environment.GetEnvironmentVariable("XDG_CACHE_HOME") is { Length: > 0 } cache ? cache
            : Path.Combine(Environment.GetFolderPath(Environment.SpecialFolder.UserProfile), ".cache"),
            "moorfield", "briefs");

    /// <exception cref="MoorfieldException">Neither the server nor a kept copy gives it.</exception>
    public byte[] Fetch(Uri address)
    {
        string kept = Path.Combine(_cache, Convert.ToHexStringLower(SHA256.HashData(Encoding.UTF8.GetBytes(address.AbsoluteUri))));
        try
        {
            return FetchAsync(address, kept).GetAwaiter().GetResult();
        }
        catch (Exception e) when (e is HttpRequestException or OperationCanceledException)
        {
            string reason = e.InnerException?.Message ?? e.Message;
            if (Read(kept) is not { } content)
                throw new MoorfieldException(ErrorKind.Failed,
                    $"{address} cannot be fetched ({reason.TrimEnd('.')}), and there is no earlier copy.", e);
            _warn($"{address} cannot be fetched ({reason.TrimEnd('.')}). The copy of {File.GetLastWriteTime(kept):yyyy-MM-dd HH:mm} is used.");
            return content;
        }
    }

    private async Task<byte[]> FetchAsync(Uri address, string kept)
    {
        byte[]? copy = Read(kept);
        var known = copy is not null && Read(kept + ".etag") is { } tag
            && EntityTagHeaderValue.TryParse(Encoding.UTF8.GetString(tag), out var parsed) ? parsed : null;
        using var response = await SendAsync(address, known).ConfigureAwait(false);
        if (response.StatusCode == HttpStatusCode.NotModified && copy is not null)
            return copy;
        if ((int)response.StatusCode is >= 300 and < 400)
            throw new MoorfieldException(ErrorKind.Failed, $"{address} leads on to {response.Headers.Location}. Give that address if you trust it.");
        if ((int)response.StatusCode is >= 400 and < 500)
            throw new MoorfieldException(ErrorKind.Failed,
                $"{address} cannot be fetched: the server answers {(int)response.StatusCode} ({response.ReasonPhrase}).");
        response.EnsureSuccessStatusCode();
        byte[] content = await response.Content.ReadAsByteArrayAsync().ConfigureAwait(false);
        Keep(kept, content, response.Headers.ETag);
        return content;
    }

    /// <summary>Asks again, after a delay that doubles, when the server cannot be reached, is too slow, or answers that it is busy.</summary>
    private async Task<HttpResponseMessage> SendAsync(Uri address, EntityTagHeaderValue? known)
    {
        using var total = new CancellationTokenSource(Total);
        for (int retries = 0; ; retries++)
        {
            using var attempt = CancellationTokenSource.CreateLinkedTokenSource(total.Token);
            attempt.CancelAfter(Attempt);
            try
            {
                using var request = new HttpRequestMessage(HttpMethod.Get, address);
                if (known is not null)
                    request.Headers.IfNoneMatch.Add(known);
                var response = await _client.SendAsync(request, attempt.Token).ConfigureAwait(false);
                bool mayChange = (int)response.StatusCode >= 500
                    || response.StatusCode is HttpStatusCode.RequestTimeout or HttpStatusCode.TooManyRequests;
                if (!mayChange || retries == Retries)
                    return response;
                response.Dispose();
            }
            catch (Exception e) when (e is HttpRequestException or OperationCanceledException && retries < Retries && !total.IsCancellationRequested)
            {
                // tried again
            }
            catch (OperationCanceledException e)
            {
                throw new HttpRequestException("The server did not answer in time.", e);
            }
            await Task.Delay(_delay * (1 << retries), total.Token).ConfigureAwait(false);
        }
    }

    private static byte[]? Read(string path)
    {
        try
        {
            return File.Exists(path) && new FileInfo(path).Length <= BriefLoader.MaxBytes ? File.ReadAllBytes(path) : null;
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            return null;
        }
    }

    /// <summary>Keeps a copy; one that cannot be kept is no trouble.</summary>
    private void Keep(string path, byte[] content, EntityTagHeaderValue? tag)
    {
        try
        {
            Directory.CreateDirectory(_cache);
            using var folder = Folder.Open(_cache, new WriteInterceptor());
            string name = Path.GetFileName(path), part = $"{name}.{Environment.ProcessId}";
            folder.TryDelete(name + ".etag"); // never the new tag next to the old content
            AtomicFile.Write(folder, name, content, part: part);
            if (tag is not null)
                AtomicFile.Write(folder, name + ".etag", Encoding.UTF8.GetBytes(tag.ToString()), part: part);
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException or MoorfieldException)
        {
            _warn($"No copy of the brief can be kept in {_cache}: {e.Message}");
        }
    }

    public void Dispose() => _client.Dispose();
}
