using Moorfield.Core.Images;
using Moorfield.Core.Reading;
using Moorfield.Core.Storage;
using Moorfield.Core.Trees;
using Moorfield.Core.Vaults;

namespace Moorfield.Core.Transactions;

/// <summary>By what a restore point knows its target again.</summary>
public static class TargetIdentities
{
    /// <summary>The GUID in the image's header, which no change alters.</summary>
    public static string Of(ImageFile file) => $"wim:{file.Wim.Header.Guid}";

    /// <summary>The identity of an image in a restore point.</summary>
    public static TargetIdentity Identify(ImageFile file) => new(file.FullPath, file.Name, Of(file), "", "");

    /// <summary>The identity of a volume in a restore point, from the least that must be read for it.</summary>
    /// <exception cref="Model.MoorfieldException">No Windows there, or its SOFTWARE hive cannot be read.</exception>
    /// <param name="read">Its system, where that was read already.</param>
    public static TargetIdentity Identify(WindowsTree volume, TargetLocation place, SystemSnapshot? read)
    {
        if (read is not null)
            return new TargetIdentity(volume.FullPath, read.Computer, read.MachineId, read.Product, read.Build, place);
        var system = SystemReader.Summarize(volume);
        return new TargetIdentity(volume.FullPath, system.Computer, system.MachineId, system.Product, system.Build, place);
    }
}
