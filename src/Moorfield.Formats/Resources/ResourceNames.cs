namespace Moorfield.Formats.Resources;

// The tree of names.
public sealed partial class ResourceIndex
{
    /// <summary>By what a list of names is known again.</summary>
    private sealed record Identity(string UniqueName, ushort Major, ushort Minor, uint Checksum, uint Scopes, int Items);

    private sealed class Names
    {
        private readonly View _block;
        private readonly bool _wide;
        private readonly long _nodes, _scopes;
        private readonly long _nodesAt, _itemsAt, _unicodeAt, _asciiAt, _unicode, _ascii;

        internal Names(View body, bool extended)
        {
            int unique = body.U16(2), simple = body.U16(4);
            long at = extended ? 24 : 8;
            string uniqueName = body.Wide(at + 20, unique);
            SimpleName = body.Wide(at + 20 + (unique * 2L), simple);
            var (major, minor, checksum, scopes, items) = (body.U16(at), body.U16(at + 2), body.U32(at + 8), body.U32(at + 12), body.U32(at + 16));
            at += 20 + ((unique + simple) * 2L);
            at = (at + 3) / 4 * 4;
            _block = body.Slice(at, body.Length - at);
            _wide = _block.U16(2) switch { 0 => false, 1 => true, _ => throw Damaged("has a list of names of no kind that is known") };
            _nodes = _block.U32(4);
            _scopes = _block.U32(8);
            long items2 = _block.U32(12);
            _unicode = _block.U32(16);
            _nodesAt = extended ? 28 : 24;
            _ascii = extended ? _block.U32(24) : 0;
            _itemsAt = _nodesAt + (_nodes * NodeLength) + (_scopes * (_wide ? 16 : 8));
            _unicodeAt = _itemsAt + (items2 * (_wide ? 4 : 2));
            _asciiAt = _unicodeAt + (_unicode * 2);
            if (_asciiAt + _ascii > _block.Length || scopes != _scopes || items != items2 || _nodes != _scopes + items2)
                throw Damaged("has a damaged list of names");
            Items = (int)items;
            Identity = new Identity(uniqueName, major, minor, checksum, scopes, Items);
        }

        internal string SimpleName { get; }

        internal int Items { get; }

        internal Identity Identity { get; }

        private int NodeLength => _wide ? 20 : 12;

        /// <summary>The item at a path; null when there is none.</summary>
        internal int? Find(string path)
        {
            string[] parts = path.Split('/');
            string last = parts[^1];
            if (last.Length is 0 or > byte.MaxValue || parts.Length > MaxSteps)
                return null;
            for (int item = 0; item < Items; item++)
            {
                long node = NodeOf(item);
                if (LengthOf(node) == last.Length && IsAt(node, parts))
                    return item;
            }
            return null;
        }

        private bool IsAt(long node, string[] parts)
        {
            for (int i = parts.Length - 1; i >= 0; i--)
            {
                if (node == 0 || !NameOf(node).Equals(parts[i], StringComparison.OrdinalIgnoreCase))
                    return false;
                node = ParentOf(node);
            }
            return node == 0;
        }

        internal string PathOf(int item)
        {
            var parts = new List<string>();
            for (long node = NodeOf(item); node != 0; node = ParentOf(node))
            {
                if (parts.Count == MaxSteps)
                    throw Damaged("has names that lead in a circle");
                parts.Add(NameOf(node));
            }
            parts.Reverse();
            return string.Join('/', parts);
        }

        private long NodeOf(int item) => Checked(_wide ? _block.U32(_itemsAt + (item * 4L)) : _block.U16(_itemsAt + (item * 2L)));

        private long ParentOf(long node) => Checked(_wide ? _block.U32(At(node)) : _block.U16(At(node)));

        private long Checked(long node) => node < _nodes ? node : throw Damaged("refers to a name that is not there");

        private long At(long node) => _nodesAt + (node * NodeLength);

        private int LengthOf(long node) => _block.U8(At(node) + (_wide ? 8 : 6));

        private string NameOf(long node)
        {
            long at = At(node);
            int length = LengthOf(node);
            byte flags = _block.U8(at + (_wide ? 9 : 7));
            long offset = _wide ? ((long)_block.U16(at + 10) << 16) | _block.U16(at + 12) : _block.U16(at + 8) | ((flags & 0xFL) << 16);
            bool ascii = (flags & IsAscii) != 0;
            if (offset + length > (ascii ? _ascii : _unicode))
                throw Damaged("has a name that lies outside");
            return ascii ? _block.Ascii(_asciiAt + offset, length) : _block.Wide(_unicodeAt + (offset * 2), length);
        }
    }
}
