using System.Net.Sockets;
using System.Net;
using System.Text;

namespace Moorfield.Cli.Tests;

/// <summary>The built program fetches a brief from a server on this machine.</summary>
public sealed class BriefAddressTests : CliTest
{
    [Fact]
    public async Task A_brief_behind_an_address_is_fetched_kept_and_used_without_the_server()
    {
        string address;
        using (var free = new TcpListener(IPAddress.Loopback, 0))
        {
            free.Start();
            address = $"http://127.0.0.1:{((IPEndPoint)free.LocalEndpoint).Port}/";
        }
        using (var server = new HttpListener())
        {
            server.Prefixes.Add(address);
            server.Start();
            var check = Task.Run(() => Run("check", Root, "--brief", address + "counters.yaml"), TestContext.Current.CancellationToken);
            var context = await server.GetContextAsync();
            context.Response.OutputStream.Write(Encoding.UTF8.GetBytes("brief: 1\nfor: everyone\nremove: [Weather]"));
            context.Response.Close();
            (await check).ExitCode.ShouldBe(4);
        }
        var without = Run("remove", Root, "--brief", address + "counters.yaml", "--yes");
        without.ExitCode.ShouldBe(0, without.Error);
        without.Error.ShouldContain("cannot be fetched");
        Refused(1, "there is no earlier copy", "check", Root, "--brief", address + "other.yaml");
        Refused(2, "without encryption", "check", Root, "--brief", "http://brief.example/counters.yaml");
    }
}
