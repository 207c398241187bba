namespace Moorfield.Formats.Resources;

// Which values an item has, and where they are said.
public sealed partial class ResourceIndex
{
    private sealed class Map
    {
        private readonly View _body;
        private readonly bool _wide;
        private readonly int _types, _itemToGroup, _groups, _infos;
        private readonly long _candidates, _typesAt, _itemToGroupAt, _groupsAt, _infosAt, _largeAt, _candidatesAt;
        private readonly long _moreItemToGroup, _moreGroups, _moreInfos;
        private int[] _infoOf = [];

        internal Map(View body)
        {
            _body = body;
            int environment = body.U16(0), reference = body.U16(6);
            SchemaSection = body.U16(4);
            DecisionSection = body.U16(8);
            (_types, _itemToGroup, _groups, _infos) = (body.U16(10), body.U16(12), body.U16(14), body.U16(16));
            _wide = body.U16(18) switch { 0 => false, 1 => true, _ => throw Damaged("has a list of values of no kind that is known") };
            _candidates = body.U32(20);
            long data = body.U32(24), large = body.U32(28);
            long referenceAt = 32 + environment;
            _typesAt = referenceAt + reference;
            _itemToGroupAt = _typesAt + (_types * 8L);
            _groupsAt = _itemToGroupAt + (_itemToGroup * 4L);
            _infosAt = _groupsAt + (_groups * 4L);
            _largeAt = _infosAt + (_infos * 4L);
            _candidatesAt = _largeAt + large;
            long dataAt = _candidatesAt + (_candidates * CandidateLength);
            Data = body.Slice(dataAt, data);
            if (large > 0)
            {
                if (!_wide)
                    throw Damaged("has a list of values of no kind that is known");
                (_moreItemToGroup, _moreGroups, _moreInfos) = (body.U32(_largeAt), body.U32(_largeAt + 4), body.U32(_largeAt + 8));
                if (12 + ((_moreItemToGroup + _moreGroups + _moreInfos) * 8) > large)
                    throw Damaged("ends early in its list of values");
            }
            if (reference > 0)
                Reference = ReadReference(body.Slice(referenceAt, reference));
        }

        internal int SchemaSection { get; }

        internal int DecisionSection { get; }

        internal View Data { get; }

        /// <summary>The list of names that it goes with; null when it does not say.</summary>
        internal Identity? Reference { get; }

        private int CandidateLength => _wide ? 10 : 8;

        private static Identity ReadReference(View view)
        {
            uint items = view.U32(16);
            return items > MaxListed ? throw Damaged("refers to an absurd list of names")
                : new Identity(view.Wide(32, view.U16(20)), view.U16(0), view.U16(2), view.U32(8), view.U32(12), (int)items);
        }

        /// <summary>Finds for each item where its values are said; no item may be said twice.</summary>
        internal void Complete(int items)
        {
            if (items > _body.Length && Reference is null)
                throw Damaged("has more names than it could hold");
            _infoOf = new int[items];
            Array.Fill(_infoOf, -1);
            for (long i = 0; i < _itemToGroup + _moreItemToGroup; i++)
            {
                var (first, group) = Pair(i, _itemToGroup, _itemToGroupAt, _largeAt + 12);
                if (group < _groups + _moreGroups)
                {
                    var (count, info) = Pair(group, _groups, _groupsAt, _largeAt + 12 + (_moreItemToGroup * 8));
                    for (long n = 0; n < count; n++)
                        Say(first + n, info + n);
                }
                else
                {
                    Say(first, group - _groups - _moreGroups);
                }
            }

            void Say(long item, long info)
            {
                if (item >= items || info >= _infos + _moreInfos)
                    throw Damaged("speaks of resources that are not there");
                if (_infoOf[item] >= 0)
                    throw Damaged("speaks of a resource twice");
                _infoOf[item] = (int)info;
            }
        }

        private (long First, long Second) Pair(long number, long small, long smallAt, long moreAt) => number < small
            ? (_body.U16(smallAt + (number * 4)), _body.U16(smallAt + (number * 4) + 2))
            : (_body.U32(moreAt + ((number - small) * 8)), _body.U32(moreAt + ((number - small) * 8) + 4));

        internal (int Decision, long First)? InfoOf(int item)
        {
            if (item >= _infoOf.Length || _infoOf[item] < 0)
                return null;
            var (decision, first) = Pair(_infoOf[item], _infos, _infosAt, _largeAt + 12 + ((_moreItemToGroup + _moreGroups) * 8));
            return decision > ushort.MaxValue ? throw Damaged("refers to qualifiers that are not there") : ((int)decision, first);
        }

        internal View Candidate(long number) => number < _candidates ? _body.Slice(_candidatesAt + (number * CandidateLength), CandidateLength)
            : throw Damaged("refers to a value that is not there");

        internal ResourceValueKind ValueKind(byte index)
        {
            if (index >= _types)
                throw Damaged("has a value of no type that is known");
            uint type = _body.U32(_typesAt + (index * 8L) + 4);
            return type <= (uint)ResourceValueKind.Utf8Path ? (ResourceValueKind)type : throw Damaged("has a value of no type that is known");
        }
    }
}
