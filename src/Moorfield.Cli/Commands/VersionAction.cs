using System.CommandLine.Invocation;
using Moorfield.Formats.Native;

namespace Moorfield.Cli.Commands;

/// <summary>Prints the version, and of the portable build what is inside and under which licence that is.</summary>
internal sealed class VersionAction : SynchronousCommandLineAction
{
    private const string Portable =
        """
        Portable build, with libhivex, libntfs-3g, libwim, libxml2, liblzma, OpenSSL and SQLite inside.
        As a whole it is under the GNU General Public License, version 3 or later. Its own sources are under the MIT License.
        """;

    public override int Invoke(ParseResult parseResult)
    {
        parseResult.InvocationConfiguration.Output.WriteLine(Invocation.Version);
        if (NativeLibraries.AreInside)
            parseResult.InvocationConfiguration.Output.WriteLine(Portable);
        return (int)ExitCode.Done;
    }
}
