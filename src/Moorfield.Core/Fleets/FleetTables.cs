namespace Moorfield.Core.Fleets;

/// <summary>Copies a store whole into another one.</summary>
internal static class FleetTables
{
    private const int Piece = 2000;

    // Each column with its type: i for 4 bytes, l for 8, t for text, b for bytes.
    private static readonly (string Table, string Columns)[] All =
    [
        ("document", "digest:b"), ("sample", "id:l kind:t bytes:b"), ("word", "id:i text:t"), ("family", "id:l name:t slot:i"),
        ("item", "id:i full_name:t title:t neutral_title:t publisher:t description:t role:i origin:i bytes:l flags:i held:i standing:i raw_name:t "
            + "parts:t extends:t"),
        ("bucket", "id:i digest:b items:b"),
        ("machine", "id:l known_as:t guid:t firmware:t name:t source:t system:i build:i maker:i product:i site:i edition:i made:l since:l seen:l "
            + "gaps:t hand_overs:t buckets:b accounts:t holders:b blocks:i guards:i"),
        ("content", "machine:l sample:l length:i bytes:b"), ("week", "begins:i item:i machines:i"),
        ("name", "family:t title:t neutral_title:t description:t"), ("past", "machine:l day:l buckets:b"),
    ];

    /// <summary>Copies all rows, within one transaction on each side.</summary>
    internal static void Copy(FleetDatabase from, FleetDatabase to, Action<int> told)
    {
        int count = 0;
        foreach (var (table, list) in All)
        {
            (string Name, char Type)[] columns = [.. list.Split(' ').Select(c => (c[..^2], c[^1]))];
            string names = string.Join(", ", columns.Select(c => c.Name));
            var rows = new List<object?[]>();
            from.Each($"SELECT {names} FROM {table}", row =>
            {
                rows.Add([.. columns.Select((c, i) => row.IsNull(i) ? null : c.Type switch
                {
                    'i' => row.Int(i), 'l' => row.Long(i), 't' => row.Text(i), _ => (object)row.Bytes(i).ToArray(),
                })]);
                if (rows.Count == Piece)
                    Send();
            });
            Send();

            void Send()
            {
                to.Insert(table, names, rows);
                told(count += rows.Count);
                rows.Clear();
            }
        }
    }
}
