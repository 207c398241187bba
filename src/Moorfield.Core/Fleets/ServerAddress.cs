namespace Moorfield.Core.Fleets;

/// <summary>
/// Where a store is on a server: <c>postgresql://USER@HOST:PORT/DATABASE?schema=NAME</c>, all but the first word optional. It holds no password.
/// [PostgreSQL, 34.1.1.2 "Connection URIs"]
/// </summary>
internal sealed class ServerAddress
{
    private const string Scheme = "postgresql://", Shorter = "postgresql:", Other = "postgres://", SchemaPart = "schema";
    private const string UsualSchema = "moorfield";
    private const int MaxSchema = 63; // NAMEDATALEN - 1

    private static readonly string[] Known = ["host", "port", "dbname", "user", "service", "passfile", "sslmode", "sslrootcert", "sslcert", "sslkey"];
    private static readonly string[] SecretParts = ["password", "sslpassword"];

    private readonly Dictionary<string, string> _parts = new(StringComparer.Ordinal);

    private ServerAddress(string text) => Text = text;

    /// <summary>As it was given.</summary>
    internal string Text { get; }

    /// <summary>The schema that holds the tables: of a database that is there anyway, Moorfield uses this alone.</summary>
    internal string Schema { get; private set; } = UsualSchema;

    /// <summary>A short name of the store.</summary>
    internal string Name => Schema != UsualSchema ? Schema : _parts.GetValueOrDefault("dbname") ?? _parts.GetValueOrDefault("service") ?? Schema;

    /// <summary>The parts for moorfield-postgresql, a line each.</summary>
    internal string Lines => string.Join('\n', _parts.Select(p => $"{p.Key}\t{p.Value}"));

    /// <summary>True if a path is an address.</summary>
    internal static bool Is(string path) => path.StartsWith(Shorter, StringComparison.Ordinal) || path.StartsWith(Other, StringComparison.Ordinal);

    /// <exception cref="MoorfieldException">It cannot be used.</exception>
    internal static ServerAddress Parse(string text)
    {
        // The text is not in the messages: it may hold a password.
        if (!text.StartsWith(Scheme, StringComparison.Ordinal))
            throw Unusable("it begins with something other than postgresql://");
        if (text.Any(char.IsControl))
            throw Unusable("it holds a control character");
        var address = new ServerAddress(text);
        string rest = text[Scheme.Length..];
        int question = rest.IndexOf('?', StringComparison.Ordinal);
        string query = question < 0 ? "" : rest[(question + 1)..];
        string[] path = (question < 0 ? rest : rest[..question]).Split('/', 2);
        address.TakeServer(path[0]);
        address.Take("dbname", path.Length > 1 ? path[1] : "");
        foreach (string part in query.Split('&', StringSplitOptions.RemoveEmptyEntries))
        {
            string[] pair = part.Split('=', 2);
            if (SecretParts.Contains(pair[0]))
                throw Password();
            if (pair.Length < 2 || (pair[0] != SchemaPart && !Known.Contains(pair[0])))
                throw Unusable($"'{pair[0]}' is not a part that is known: {TextFormat.List([SchemaPart, .. Known])} are");
            if (pair[0] == SchemaPart)
                address.Schema = Decode(pair[1]);
            else
                address.Take(pair[0], pair[1]);
        }
        if (address.Schema.Length is 0 or > MaxSchema || !address.Schema.All(c => char.IsAsciiLetterLower(c) || char.IsAsciiDigit(c) || c == '_')
            || char.IsAsciiDigit(address.Schema[0]) || address.Schema.StartsWith("pg_", StringComparison.Ordinal))
            throw Unusable("the schema's name has to be of small letters, digits and _");
        if (address._parts.TryGetValue("sslmode", out string? mode) && mode is not ("verify-full" or "verify-ca"))
            throw Unusable("sslmode can be verify-full, which is the usual one for other machines, or verify-ca: with others nobody knows which "
                + "server it is");
        return address;
    }

    /// <summary>User, host and port. A host with colons is in brackets.</summary>
    private void TakeServer(string server)
    {
        int at = server.LastIndexOf('@');
        if (at >= 0)
        {
            if (server[..at].Contains(':', StringComparison.Ordinal))
                throw Password();
            Take("user", server[..at]);
        }
        string host = server[(at + 1)..];
        int colon = host.LastIndexOf(':');
        if (colon >= 0 && colon > host.LastIndexOf(']'))
        {
            Take("port", host[(colon + 1)..]);
            host = host[..colon];
        }
        if (host.Contains(',', StringComparison.Ordinal))
            throw Unusable("it names several servers");
        Take("host", host.StartsWith('[') && host.EndsWith(']') ? host[1..^1] : host);
    }

    private void Take(string name, string value)
    {
        string decoded = Decode(value);
        if (decoded.Length == 0)
            return;
        if (name == "port" && !ushort.TryParse(decoded, NumberStyles.None, CultureInfo.InvariantCulture, out _))
            throw Unusable("its port is not a number up to 65535");
        _parts[name] = decoded;
    }

    private static string Decode(string text)
    {
        string decoded = Uri.UnescapeDataString(text);
        return decoded.Any(char.IsControl) ? throw Unusable("it holds a control character") : decoded;
    }

    private static MoorfieldException Password() => new(ErrorKind.InvalidUsage, "This address holds a password, which others can read in the list "
        + "of processes and in the shell's history. Put it into ~/.pgpass or a service file, or use a certificate ('moorfield help fleet').");

    private static MoorfieldException Unusable(string why) => new(ErrorKind.InvalidUsage,
        $"This is not an address of a fleet store: {why}. Example: postgresql://fleet@db.saltmarsh.example/fleets");
}
