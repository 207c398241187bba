namespace Moorfield.Cli.Picking;

/// <summary>The result of a key press.</summary>
internal enum PickOutcome
{
    GoesOn,
    /// <summary>Packages and people are chosen.</summary>
    Chosen,
    /// <summary>The person left without choosing.</summary>
    Left,
}

/// <summary>Turns keys into changes of the state.</summary>
/// <param name="openBrief">Marks what a brief takes; gives a message.</param>
/// <param name="saveBrief">Saves the choice; gives a message.</param>
/// <param name="page">Rows that fit on the screen.</param>
internal sealed class PickKeys(PickState state, Func<string, string> openBrief, Func<string, string> saveBrief, Func<int> page)
{
    internal PickOutcome Press(ConsoleKeyInfo key)
    {
        state.Message = "";
        if (key is { Key: ConsoleKey.C, Modifiers: ConsoleModifiers.Control })
            return PickOutcome.Left;
        return state.Mode switch
        {
            PickMode.Packages => PressInPackages(key),
            PickMode.Who => PressInWho(key),
            PickMode.Help => CloseHelp(),
            _ => PressInPrompt(key),
        };
    }

    private PickOutcome PressInPackages(ConsoleKeyInfo key)
    {
        switch (key.Key)
        {
            case ConsoleKey.Escape when state.Search.Length == 0:
                return PickOutcome.Left;
            case ConsoleKey.Escape:
                state.SearchFor("");
                break;
            case ConsoleKey.Enter when state.Marked.Count == 0:
                state.Message = "Nothing is marked yet: Space marks what is highlighted.";
                break;
            case ConsoleKey.Enter when state.Accounts.IsEmpty:
                return PickOutcome.Chosen;
            case ConsoleKey.Enter:
                state.StartMode(PickMode.Who);
                break;
            case ConsoleKey.Spacebar:
                if (state.Highlighted is { } item)
                {
                    state.Toggle(item);
                    state.Move(state.Message.Length == 0 ? 1 : 0);
                }
                break;
            case ConsoleKey.LeftArrow:
                state.DetailsTop = Math.Max(0, state.DetailsTop - 1);
                break;
            case ConsoleKey.RightArrow:
                state.DetailsTop++;
                break;
            case ConsoleKey.F1:
                state.StartMode(PickMode.Help);
                break;
            case ConsoleKey.F2:
                state.ToggleSize();
                break;
            case ConsoleKey.F3:
                state.ToggleGroups();
                break;
            case ConsoleKey.F4:
                state.MarkShown();
                break;
            case ConsoleKey.F5:
                state.MarkNone();
                break;
            case ConsoleKey.F6:
                state.StartMode(PickMode.OpenBrief);
                break;
            case ConsoleKey.F7 when state.Marked.Count == 0:
                state.Message = "Nothing is marked yet, so there is nothing to save.";
                break;
            case ConsoleKey.F7:
                state.StartMode(PickMode.SaveBrief);
                break;
            case ConsoleKey.F8:
                state.MarkFree();
                break;
            case ConsoleKey.Backspace when state.Search.Length > 0:
                state.SearchFor(state.Search[..^1]);
                break;
            default:
                if (!MoveBy(key.Key) && !char.IsControl(key.KeyChar))
                    state.SearchFor(state.Search + key.KeyChar);
                break;
        }
        return PickOutcome.GoesOn;
    }

    private PickOutcome PressInWho(ConsoleKeyInfo key)
    {
        switch (key.Key)
        {
            case ConsoleKey.Escape:
                state.StartMode(PickMode.Packages);
                break;
            case ConsoleKey.Spacebar:
                if (state.Cursor == state.Accounts.Length)
                    state.Newcomers = !state.Newcomers;
                else if (!state.Sids.Remove(state.Accounts[state.Cursor].Sid))
                    state.Sids.Add(state.Accounts[state.Cursor].Sid);
                state.Recount();
                break;
            case ConsoleKey.Enter when state.Sids.Count == 0 && !state.Newcomers:
                state.Message = "Nobody is marked: Space marks for whom the packages go.";
                break;
            case ConsoleKey.Enter:
                return PickOutcome.Chosen;
            default:
                MoveBy(key.Key);
                break;
        }
        return PickOutcome.GoesOn;
    }

    private PickOutcome PressInPrompt(ConsoleKeyInfo key)
    {
        switch (key.Key)
        {
            case ConsoleKey.Escape:
                state.StartMode(PickMode.Packages);
                break;
            case ConsoleKey.Enter when state.Typed.Trim().Length > 0:
                string message = (state.Mode == PickMode.OpenBrief ? openBrief : saveBrief)(state.Typed.Trim());
                state.StartMode(PickMode.Packages);
                state.Message = message;
                break;
            case ConsoleKey.Backspace when state.Typed.Length > 0:
                state.Typed = state.Typed[..^1];
                break;
            default:
                if (!char.IsControl(key.KeyChar))
                    state.Typed += key.KeyChar;
                break;
        }
        return PickOutcome.GoesOn;
    }

    private PickOutcome CloseHelp()
    {
        state.StartMode(PickMode.Packages);
        return PickOutcome.GoesOn;
    }

    private bool MoveBy(ConsoleKey key)
    {
        int? rows = key switch
        {
            ConsoleKey.UpArrow => -1,
            ConsoleKey.DownArrow => 1,
            ConsoleKey.PageUp => -page(),
            ConsoleKey.PageDown => page(),
            ConsoleKey.Home => -state.RowCount,
            ConsoleKey.End => state.RowCount,
            _ => null,
        };
        state.Move(rows ?? 0);
        return rows is not null;
    }
}
