using Moorfield.Core.Fleets;
using Moorfield.Tests;

namespace Moorfield.Core.Tests;

/// <summary>The suite over stores on a real PostgreSQL server, and what only these have.</summary>
public sealed class ServerFleetConformance() : FleetStoreConformance(
    path => FleetStore.OpenOrCreate(TestServer.Shared.Address(path)), path => FleetStore.TryOpen(TestServer.Shared.Address(path))!)
{
    private protected override string StoreName => TestServer.Schema(Place);
}
