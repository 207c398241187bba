using Spectre.Console.Rendering;
using Spectre.Console;

namespace Moorfield.Cli.Picking;

/// <summary>Lays a state out on a screen of any size: details next to the list where there is room, below it otherwise.</summary>
internal sealed class PickView(PickState state)
{
    private const string Accent = "skyblue2";
    private const int MinWideColumns = 120;
    private const int DetailsBelow = 8;
    private const int Around = 4; // header, message, total, keys
    private int _top;

    /// <summary>Rows of the list that the screen has.</summary>
    internal int Page { get; private set; } = 10;

    internal IRenderable Draw(int width, int height)
    {
        bool wide = width >= MinWideColumns;
        bool below = !wide && height >= 18;
        int bodyHeight = Math.Max(3, height - Around);
        int listHeight = below ? bodyHeight - DetailsBelow : bodyHeight;
        int listWidth = wide ? width * 3 / 5 : width;
        Page = Math.Max(1, listHeight - 2);
        var list = Framed(ListTitle(), state.Mode switch
        {
            PickMode.Who => People(listWidth - 4),
            PickMode.Help => Help(),
            _ => Packages(listWidth - 4, Page),
        }, listHeight);
        int detailsWidth = wide ? width - listWidth : width;
        var details = Framed(state.Highlighted?.Name ?? "", Details(detailsWidth - 4, (wide ? bodyHeight : DetailsBelow) - 2), wide
            ? bodyHeight : DetailsBelow);
        var body = new Layout("body") { Size = bodyHeight };
        if (wide)
            body.SplitColumns(new Layout("list", list) { Size = listWidth }, new Layout("details", details));
        else if (below)
            body.SplitRows(new Layout("list", list) { Size = listHeight }, new Layout("details", details) { Size = DetailsBelow });
        else
            body.Update(list);
        return new Layout("screen").SplitRows(
            new Layout("header", Line(Header(), width)) { Size = 1 }, body, new Layout("message", Line(state.Message, width)) { Size = 1 },
            new Layout("total", Line(TotalText(), width, "bold")) { Size = 1 }, new Layout("keys", Line(Keys(width), width, "grey62")) { Size = 1 });
    }

    private string Header() => state.Mode switch
    {
        PickMode.OpenBrief => $"Start from this brief: {state.Typed}_",
        PickMode.SaveBrief => $"Save the choice as this brief: {state.Typed}_",
        _ => $"Find: {state.Search}_",
    };

    private string ListTitle() => state.Mode switch
    {
        PickMode.Who => "For whom are they removed?",
        PickMode.Help => "Keys",
        _ => $"{state.Place}: {state.Shown.Length} of {TextTable.Count(state.Items.Length, state.Things)}, by {(state.BySize ? "size" : "name")}",
    };

    private string TotalText()
    {
        var total = state.Total;
        return total.Packages == 0
            ? "Nothing is marked."
            : $"{TextTable.Count(total.Packages, state.Things)}, {TextTable.Size(total.Bytes)} for {Who()}. "
                + $"{(total.Costs.IsEmpty ? "It costs nothing." : $"Costs: {TextFormat.List(total.Costs, 3)}.")}";
    }

    private string Who() =>
        state.Accounts.IsEmpty ? "newcomers"
        : state.Newcomers && state.Sids.Count == state.Accounts.Length ? "everyone"
        : TextFormat.List(state.Accounts.Where(a => state.Sids.Contains(a.Sid)).Select(a => a.Name).Concat(state.Newcomers ? ["newcomers"] : []),
            3) is { Length: > 0 } names ? names : "nobody";

    private const string AllKeys =
        "Space mark  Enter go on  F1 help  F2 size  F3 group  F4 all  F5 none  F6 brief  F7 save  F8 free  Esc leave";

    private string Keys(int width) => state.Mode switch
    {
        PickMode.Who => "Space mark  Enter preview  Esc back to the packages",
        PickMode.OpenBrief or PickMode.SaveBrief => "Enter go ahead  Esc back",
        PickMode.Help => "Any key goes back",
        _ when width <= AllKeys.Length => "Space mark  Enter go on  F1 help  F4 all  F5 none  F7 save  F8 free  Esc leave",
        _ => AllKeys,
    };

    private IEnumerable<string> Packages(int width, int rows)
    {
        var lines = new List<(string Text, bool Highlighted)>();
        int highlighted = 0;
        string? group = null;
        for (int i = 0; i < state.Shown.Length; i++)
        {
            var item = state.Shown[i];
            if (state.Grouped && item.Group != group)
            {
                group = item.Group;
                var members = state.Shown.Where(s => s.Group == group).ToList();
                string heading = $"{group}: {members.Count}, {TextTable.Size(members.Sum(m => m.Bytes))}";
                lines.Add(($"[bold {Accent}]{Markup.Escape(Fit(heading, width))}[/]", false));
            }
            if (i == state.Cursor)
                highlighted = lines.Count;
            lines.Add((Row(item, width), i == state.Cursor));
        }
        if (lines.Count == 0)
            return [$"Nothing fits '{Markup.Escape(ConsoleOutput.Clean(state.Search))}'. Esc shows all."];
        // Scroll just as far as the highlighted row needs, with a group's heading if it is the first below it.
        _top = Math.Clamp(_top, Math.Max(0, highlighted - rows + 1), highlighted);
        if (highlighted == 1 && state.Grouped)
            _top = 0;
        _top = Math.Min(_top, Math.Max(0, lines.Count - rows));
        return lines.Skip(_top).Take(rows).Select(l => l.Highlighted ? $"[invert]{l.Text}[/]" : l.Text);
    }

    private string Row(PickItem item, int width)
    {
        string mark = state.Marked.Contains(item.Id) ? "[x]" : item.CanGo ? "[ ]" : " - ";
        string reason = item.Reasons.FirstOrDefault(r => r.Kind is ReasonKind.Bar or ReasonKind.Cost)?.Short ?? "";
        string pointer = item == state.Highlighted ? ">" : " ";
        int rest = width - 6;
        int name = Math.Clamp(rest * 2 / 5, 12, 40);
        string text = $"{pointer} {mark} {Fit(item.Name, name)} {TextTable.Size(item.Bytes),9}  "
            + $"{Fit(item.Standing, 9)} {reason}";
        string fitted = Markup.Escape(Fit(text, width));
        return state.Marked.Contains(item.Id) ? $"[bold]{fitted}[/]" : fitted;
    }

    private IEnumerable<string> People(int width)
    {
        for (int i = 0; i <= state.Accounts.Length; i++)
        {
            bool newcomers = i == state.Accounts.Length;
            bool marked = newcomers ? state.Newcomers : state.Sids.Contains(state.Accounts[i].Sid);
            string name = newcomers ? "newcomers: accounts that do not exist yet; updates may not bring the packages back" : state.Accounts[i].Name;
            string line = Markup.Escape(Fit($"{(i == state.Cursor ? ">" : " ")} {(marked ? "[x]" : "[ ]")} {name}", width));
            yield return i == state.Cursor ? $"[invert]{line}[/]" : line;
        }
    }

    private static IEnumerable<string> Help()
    {
        yield return "Type to find packages by name, description or publisher.";
        yield return "";
        foreach (var (key, does) in new[]
        {
            ("Up Down PgUp PgDn Home End", "move"), ("Left Right", "scroll the details"), ("Space", "mark, or take the mark away"),
            ("F2", "by size, or by name"), ("F3", "group by origin, or not"),
            ("F4", "mark all that are shown"), ("F5", "mark none"), ("F8", "mark all that are shown and free"), ("F6", "start from a brief"),
            ("F7", "save the choice as a brief"),
            ("Enter", "choose for whom, then see the preview"), ("Esc", "show all again, then leave"), ("Ctrl+C", "leave"),
        })
            yield return $"{key,-28}{does}";
    }

    private IEnumerable<string> Details(int width, int rows)
    {
        if (state.Highlighted is not { } item)
            return [];
        var lines = item.Details.SelectMany(t => Wrap(t, width)).ToList();
        state.DetailsTop = Math.Clamp(state.DetailsTop, 0, Math.Max(0, lines.Count - rows));
        bool more = lines.Count - state.DetailsTop > rows;
        var shown = lines.Skip(state.DetailsTop).Take(rows).Select(Markup.Escape).ToList();
        if (more)
            shown[^1] = $"[grey62]{Markup.Escape(Fit($"... {lines.Count - state.DetailsTop - rows + 1} more lines: Right", width))}[/]";
        return shown;
    }

    private static Panel Framed(string title, IEnumerable<string> lines, int height) => new(new Rows(lines.Select(l => new Markup(l))))
    {
        Header = new PanelHeader($"[bold {Accent}]{Markup.Escape(ConsoleOutput.Clean(title))}[/]"),
        Border = BoxBorder.Square,
        BorderStyle = new Style(Color.Grey42),
        Padding = new Padding(1, 0),
        Height = height,
        Expand = true,
    };

    private static Markup Line(string text, int width, string? style = null)
    {
        string fitted = Markup.Escape(Fit(text, width - 1));
        return new Markup(style is null ? fitted : $"[{style}]{fitted}[/]");
    }

    /// <summary>A text in exactly so many cells, cut or filled up; wide letters count for two.</summary>
    private static string Fit(string text, int cells)
    {
        text = ConsoleOutput.Clean(text);
        int used = new Segment(text).CellCount();
        if (used <= cells)
            return text + new string(' ', cells - used);
        int length = Math.Min(text.Length, cells);
        while (length > 0 && (new Segment(text[..length]).CellCount() > cells - 1 || char.IsHighSurrogate(text[length - 1])))
            length--;
        return text[..length] + "~" + new string(' ', Math.Max(0, cells - 1 - new Segment(text[..length]).CellCount()));
    }

    private static IEnumerable<string> Wrap(string text, int cells)
    {
        string line = "";
        foreach (string word in ConsoleOutput.CleanLines(text).Split((char[]?)null, StringSplitOptions.RemoveEmptyEntries))
        {
            string longer = line.Length == 0 ? word : $"{line} {word}";
            if (new Segment(longer).CellCount() <= cells)
            {
                line = longer;
                continue;
            }
            if (line.Length > 0)
                yield return line;
            line = new Segment(word).CellCount() <= cells ? word : Fit(word, cells);
        }
        if (line.Length > 0)
            yield return line;
    }
}
