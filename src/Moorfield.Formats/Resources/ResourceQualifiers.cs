namespace Moorfield.Formats.Resources;

// Qualifiers, their sets and decisions.
public sealed partial class ResourceIndex
{
    private sealed class Decisions
    {
        private readonly View _body;
        private readonly int _distinct, _qualifiers, _sets, _decisions, _index, _characters;

        internal Decisions(View body)
        {
            _body = body;
            (_distinct, _qualifiers, _sets, _decisions, _index, _characters) =
                (body.U16(0), body.U16(2), body.U16(4), body.U16(6), body.U16(8), body.U16(10));
            if (CharactersAt + (_characters * 2L) > body.Length)
                throw Damaged("ends early in its qualifiers");
        }

        private long SetsAt => 12 + (_decisions * 4L);

        private long QualifiersAt => SetsAt + (_sets * 4L);

        private long DistinctAt => QualifiersAt + (_qualifiers * 8L);

        private long IndexAt => DistinctAt + (_distinct * 12L);

        private long CharactersAt => IndexAt + (_index * 2L);

        /// <summary>The first of its sets in the index table, and their number.</summary>
        internal (int First, int Count) Decision(int number) => Range(12, number, _decisions);

        private (int First, int Count) Range(long table, int number, int count)
        {
            if (number >= count)
                throw Damaged("refers to qualifiers that are not there");
            int first = _body.U16(table + (number * 4)), length = _body.U16(table + (number * 4) + 2);
            return first + length <= _index ? (first, length) : throw Damaged("refers to qualifiers that are not there");
        }

        internal ImmutableArray<ResourceQualifier> Qualifiers(int indexOfSet)
        {
            var (first, count) = Range(SetsAt, _body.U16(IndexAt + (indexOfSet * 2L)), _sets);
            var qualifiers = ImmutableArray.CreateBuilder<ResourceQualifier>(count);
            for (int i = 0; i < count; i++)
                qualifiers.Add(Qualifier(_body.U16(IndexAt + ((first + i) * 2L))));
            return qualifiers.MoveToImmutable();
        }

        private ResourceQualifier Qualifier(int number)
        {
            if (number >= _qualifiers)
                throw Damaged("refers to qualifiers that are not there");
            var qualifier = _body.Slice(QualifiersAt + (number * 8L), 8);
            if (qualifier.U16(0) >= _distinct)
                throw Damaged("refers to qualifiers that are not there");
            var distinct = _body.Slice(DistinctAt + (qualifier.U16(0) * 12L), 12);
            long place = distinct.U32(8);
            if (place >= _characters)
                throw Damaged("refers to qualifiers that are not there");
            return new ResourceQualifier((QualifierKind)distinct.U16(2), _body.Wide(CharactersAt + (place * 2), _characters - place),
                qualifier.U16(2), qualifier.U16(4));
        }
    }
}
