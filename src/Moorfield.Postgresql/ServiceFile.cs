namespace Moorfield.Postgresql;

/// <summary>A service of a service file. [PostgreSQL, 34.17 "The Connection Service File"]</summary>
internal static class ServiceFile
{
    /// <summary>The settings of a service.</summary>
    /// <exception cref="ConnectionException">There is no such service.</exception>
    internal static IEnumerable<(string Name, string Value)> Read(string service)
    {
        string home = Environment.GetFolderPath(Environment.SpecialFolder.UserProfile);
        string?[] files =
        [
            Environment.GetEnvironmentVariable("PGSERVICEFILE"), Path.Combine(home, ".pg_service.conf"),
            Path.Combine(Environment.GetEnvironmentVariable("PGSYSCONFDIR") ?? "/etc/postgresql-common", "pg_service.conf"),
        ];
        foreach (string file in files.OfType<string>().Where(File.Exists))
        {
            string[] lines;
            try
            {
                lines = File.ReadAllLines(file);
            }
            catch (Exception e) when (e is IOException or UnauthorizedAccessException)
            {
                throw new ConnectionException($"the service file {file} cannot be read");
            }
            var own = lines.Select(l => l.Trim()).SkipWhile(l => l != $"[{service}]").Skip(1).TakeWhile(l => !l.StartsWith('[')).ToList();
            if (lines.Any(l => l.Trim() == $"[{service}]"))
                return own.Where(l => !l.StartsWith('#') && l.Contains('=')).Select(l => l.Split('=', 2)).Select(l => (l[0].Trim(), l[1].Trim()));
        }
        throw new ConnectionException($"no service file has a service '{service}'");
    }
}
