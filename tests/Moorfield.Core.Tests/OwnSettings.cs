using System.Runtime.CompilerServices;
using Moorfield.Tests;

namespace Moorfield.Core.Tests;

/// <summary>Tests read no settings of the person who runs them, and make no key file among them.</summary>
internal static class OwnSettings
{
    [ModuleInitializer]
    internal static void Use()
    {
        var folder = new TemporaryFolder();
        AppDomain.CurrentDomain.ProcessExit += (_, _) => folder.Dispose();
        Environment.SetEnvironmentVariable("XDG_CONFIG_HOME", folder.Path);
    }
}
