using System.Collections.Immutable;
using Moorfield.Core.Model;
using Moorfield.Core.Reading;
using Moorfield.Core.Trees;
using Moorfield.Formats.Wim;

namespace Moorfield.Core.Targets;

/// <summary>What a command works on: a Windows volume, or an image file with a system in each edition.</summary>
public sealed class Target : IDisposable
{
    // A large SOFTWARE hive has about 100 MB, and each edition at work holds one.
    private const int MostAtOnce = 2;

    private Target(WindowsVolume? volume, ImageFile? image)
    {
        Volume = volume;
        Image = image;
    }

    /// <summary>Null when the target is an image.</summary>
    public WindowsVolume? Volume { get; }

    /// <summary>Null when the target is a volume.</summary>
    public ImageFile? Image { get; }

    /// <summary>Name of the folder or file, for messages.</summary>
    public string Name => Image?.Name ?? Volume!.Name;

    public string FullPath => Image?.FullPath ?? Volume!.FullPath;

    /// <summary>Opens a folder as a volume, a WIM or ESD file as an image.</summary>
    /// <exception cref="MoorfieldException">Neither, or it cannot be read.</exception>
    public static Target Open(string path, WriteSeam seam)
    {
        if (!File.Exists(path))
            return new Target(WindowsVolume.Open(path, seam), null);
        return new Target(null, ImageFile.Open(path, seam));
    }

    /// <summary>Takes the target for this run; false when another run has it.</summary>
    public bool TryLock() => Image?.TryLock() ?? Volume!.TryLock();

    /// <summary>The editions that a person means: by number, or by name in any case; all when none is named. [null] for a volume.</summary>
    /// <exception cref="MoorfieldException">No such edition, or a name that several have.</exception>
    public ImmutableArray<int?> Choose(IReadOnlyCollection<string> words)
    {
        if (Image is null)
            return words.Count == 0 ? [null] : throw new MoorfieldException(Trouble.Misused, $"{Name} is a volume, which has no editions. Leave --edition out.");
        var editions = Image.Editions;
        if (editions.IsEmpty)
            throw new MoorfieldException(Trouble.Misused, $"{Name} holds no edition.");
        return words.Count == 0
            ? [.. editions.Select(e => (int?)e.Number)]
            : [.. words.Select(w => Edition(w, editions)).Distinct().Order()];
    }

    private int? Edition(string word, ImmutableArray<ImageInfo> editions)
    {
        var fitting = editions.Where(e => e.Name.Equals(word, StringComparison.OrdinalIgnoreCase)).ToList();
        if (fitting.Count == 0 && int.TryParse(word, out int number) && number >= 1 && number <= editions.Length)
            return number;
        string list = string.Join(", ", editions.Select(e => $"{e.Number} ({e.Name})"));
        return fitting.Count switch
        {
            1 => fitting[0].Number,
            0 => throw new MoorfieldException(Trouble.Misused, $"{Name} has no edition '{word}'. It has: {list}."),
            _ => throw new MoorfieldException(Trouble.Misused, $"'{word}' is the name of several editions of {Name}. Give a number: {string.Join(" or ", fitting.Select(e => e.Number))}."),
        };
    }

    /// <summary>Does something with the tree of one system.</summary>
    /// <param name="edition">Null on a volume.</param>
    public T With<T>(int? edition, Func<WindowsTree, T> use)
    {
        if (edition is not { } number)
            return use(Volume!);
        using var tree = Image!.OpenEdition(number);
        return use(tree);
    }

    /// <summary>Does something with each system, several at once.</summary>
    /// <returns>What came of it, in the order of <paramref name="editions"/>.</returns>
    public ImmutableArray<T> ForEach<T>(IReadOnlyList<int?> editions, Func<int?, T> use)
    {
        var results = new T[editions.Count];
        WimFile.Unwrapped(() => Parallel.For(0, results.Length, new ParallelOptions { MaxDegreeOfParallelism = MostAtOnce }, i => results[i] = use(editions[i])));
        return [.. results];
    }

    /// <summary>Reads the systems.</summary>
    public ImmutableArray<SystemSnapshot> Read(IReadOnlyList<int?> editions) => ForEach(editions, edition =>
    {
        var snapshot = With(edition, SystemReader.Read);
        return edition is { } number ? snapshot with { EditionNumber = number, Name = Image!.Editions[number - 1].Name } : snapshot;
    });

    public void Dispose()
    {
        Volume?.Dispose();
        Image?.Dispose();
    }
}
