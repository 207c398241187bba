namespace Moorfield.Tests;

/// <summary>Files that Windows itself wrote, which <c>./run test</c> fetches from the sources of Debian packages where it can.</summary>
public static class Genuine
{
    /// <summary>The path of a file; a test that needs one that is not there is skipped, and says which.</summary>
    /// <param name="name">SOURCE/FILE.</param>
    public static string Path(string name)
    {
        string folder = Environment.GetEnvironmentVariable("MOORFIELD_GENUINE") is { Length: > 0 } given ? given
            : System.IO.Path.Combine(Environment.GetFolderPath(Environment.SpecialFolder.UserProfile), ".cache/moorfield-genuine");
        string path = System.IO.Path.Combine(folder, name);
        Assert.SkipUnless(File.Exists(path), $"{name} is not there: the registry of Debian sources did not have it.");
        return path;
    }
}
