using Moorfield.Tests;

namespace Moorfield.Core.Tests;

/// <summary>NTFS volumes as libfsntfs reads them, through libbde where they are encrypted.</summary>
internal static class DiskReferee
{
    /// <summary>A line for each file and folder with all that it has, in order.</summary>
    /// <param name="startupKey">A .BEK file; null for a volume that is not encrypted.</param>
    internal static string Read(string path, string? startupKey = null) => Tool.Read("/usr/bin/python3", "-c", """
        import pyfsntfs, sys, hashlib
        source = open(sys.argv[1], 'rb')
        if sys.argv[2]:
            import pybde
            source = pybde.volume(); source.read_startup_key(sys.argv[2]); source.open(sys.argv[1])
        volume = pyfsntfs.volume(); volume.open_file_object(source)
        def walk(entry, path):
            for i in range(entry.number_of_sub_file_entries):
                child = entry.get_sub_file_entry(i)
                if (child.name or '').startswith('$'): continue
                place = path + '/' + child.name
                streams = sorted((s.name, s.size) for s in child.alternate_data_streams)
                if child.has_directory_entries_index():
                    print(place, streams); walk(child, place); continue
                content = child.read_buffer(child.size) if child.size else b''
                print(place, child.size, hashlib.sha256(content).hexdigest(), streams, child.get_modification_time_as_integer(),
                    child.get_creation_time_as_integer(), child.file_attribute_flags)
        walk(volume.get_root_directory(), '')
        """, path, startupKey ?? "").Split('\n').Order(StringComparer.Ordinal).Aggregate((a, b) => a + "\n" + b);
}
