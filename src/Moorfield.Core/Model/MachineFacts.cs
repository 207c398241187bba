namespace Moorfield.Core.Model;

/// <summary>The facts of a machine by which briefs choose machines. Each is empty when it is not known.</summary>
/// <param name="Maker">As the registry, or a person, names it.</param>
/// <param name="Product">Of Windows, e.g. "Windows 11 Pro".</param>
/// <param name="Build">Build and revision, e.g. "26100.2314".</param>
/// <param name="Site">In the directory.</param>
public sealed record MachineFacts(string Name, string Maker, string Product, string Build, string Site)
{
    /// <summary>The facts of a system; null for an edition of an image, which is no machine.</summary>
    public static MachineFacts? Of(SystemSnapshot system) => system.EditionNumber is not null ? null
        : new(system.Computer, system.Manufacturer, system.Product, system.Build, system.Site);
}
