using System.Collections.Immutable;
using System.Globalization;
using System.Text.Json;
using Deque.AxeCore.Commons;
using Microsoft.Playwright;
using Moorfield.Reporting;
using Moorfield.Reporting.Pages;
using Moorfield.Tests;

namespace Moorfield.Cli.Tests;

/// <summary>Debian's Chromium, without a network; started once for all tests.</summary>
public sealed class Browser : IAsyncLifetime
{
    private IPlaywright _playwright = null!;
    private IBrowser _browser = null!;

    public async ValueTask InitializeAsync()
    {
        _playwright = await Playwright.CreateAsync();
        _browser = await _playwright.Chromium.LaunchAsync(new()
        {
            ExecutablePath = "/usr/bin/chromium", Args = ["--no-sandbox", "--disable-dev-shm-usage"],
        });
    }

    /// <summary>Opens a page in a context that has no network.</summary>
    internal async Task<OpenedPage> Open(string file, int width = 1280, ColorScheme colors = ColorScheme.Light, bool script = true)
    {
        var context = await _browser.NewContextAsync(new()
        {
            Offline = true, JavaScriptEnabled = script, ColorScheme = colors, ViewportSize = new() { Width = width, Height = 800 },
        });
        var opened = new OpenedPage(context, await context.NewPageAsync());
        await opened.Page.GotoAsync($"file://{file}");
        return opened;
    }

    public async ValueTask DisposeAsync()
    {
        await _browser.DisposeAsync();
        _playwright.Dispose();
    }
}

/// <summary>An open page, with what it asked for and what went wrong on it.</summary>
internal sealed class OpenedPage : IAsyncDisposable
{
    private readonly IBrowserContext _context;

    internal OpenedPage(IBrowserContext context, IPage page)
    {
        _context = context;
        Page = page;
        page.Request += (_, request) => Requests.Add(request.Url);
        page.Console += (_, message) => Troubles.Add(message.Text);
        page.PageError += (_, error) => Troubles.Add(error);
        page.Dialog += (_, dialog) => Troubles.Add($"dialog: {dialog.Message}");
    }

    internal IPage Page { get; }

    internal List<string> Requests { get; } = [];

    internal List<string> Troubles { get; } = [];

    /// <summary>Violations that axe finds, a line each.</summary>
    internal async Task<string[]> Violations()
    {
        await Page.EvaluateAsync(new BundledAxeScriptProvider().GetScript());
        var found = await Page.EvaluateAsync<JsonElement>("async () => (await axe.run()).violations.map(v => "
            + "v.id + ' ' + v.nodes.length + ': ' + v.nodes[0].html)");
        return [.. found.EnumerateArray().Select(v => v.GetString()!)];
    }

    public async ValueTask DisposeAsync() => await _context.DisposeAsync();
}

/// <summary>Reports in a real browser.</summary>
public sealed class BrowserTests(Browser browser) : CliTest, IClassFixture<Browser>
{
    private const string Hostile = "</script><script>alert('x')</script>\"&<img src=x onerror=alert(1)>";

    private string Page(string name, params string[] arguments)
    {
        var outcome = Run([.. arguments, "--format", "html", "--to", Folder[name]]);
        File.Exists(Folder[name]).ShouldBeTrue(outcome.Error);
        return Folder[name];
    }

    private string PageOf(string name, Action<IReportPage> write)
    {
        var page = new PageCollector(_ => { }, takesDetails: true);
        write(page);
        return Folder.Write(name, HtmlPage.Write(new PageHead(name, name, DateTimeOffset.UnixEpoch, "1"), page.Blocks));
    }

    private string FleetPage() => Page("fleet.html", "inventory", Forty["pcs.fleet"], "--brief", Forty["fleet/rings"]);

    private string RunPage() =>
        Page("run.html", "remove", Root, "Weather", "Larkfield.*", "--for", "everyone", "--yes", "--accept-costs", "--report");

    [Fact]
    public async Task Tables_sort_and_filter_by_mouse_and_say_so()
    {
        await using var opened = await browser.Open(Page("inventory.html", "inventory", Root));
        var (page, status) = (opened.Page, opened.Page.GetByRole(AriaRole.Status).First);
        int rows = await page.Locator("tbody tr").CountAsync();
        (await status.TextContentAsync()).ShouldBe($"{rows} rows.");
        var size = page.GetByRole(AriaRole.Button, new() { Name = "Size" });
        await size.ClickAsync();
        await size.ClickAsync();
        (await status.TextContentAsync()).ShouldBe($"{rows} rows. Sorted by Size, descending.");
        (await page.Locator("th[aria-sort]").GetAttributeAsync("aria-sort")).ShouldBe("descending");
        var values = (await page.Locator("tbody td[data-v]").EvaluateAllAsync<string[]>("all => all.map(c => c.dataset.v)"))
            .Select(v => double.Parse(v, CultureInfo.InvariantCulture)).ToList();
        values.Count.ShouldBe(rows);
        values.ShouldBe(values.OrderDescending());
        values.Distinct().Count().ShouldBeGreaterThan(10);
        await page.GetByLabel("Filter").FillAsync("LARK free");
        string[] shown = await page.Locator("tbody tr:visible").EvaluateAllAsync<string[]>("all => all.map(r => r.textContent)");
        shown.ShouldNotBeEmpty();
        shown.ShouldAllBe(r => r.Contains("Lark", StringComparison.OrdinalIgnoreCase) && r.Contains("free", StringComparison.Ordinal));
        (await status.TextContentAsync()).ShouldBe($"{shown.Length} of {rows} rows. Sorted by Size, descending.");
    }

    [Fact]
    public async Task Sizes_sort_by_their_units_and_texts_by_the_numbers_in_them()
    {
        string file = PageOf("sizes.html", page =>
        {
            var table = new TextTable("Package", "Files", "Change");
            table.Add("Timer 10", "3.2 MB go", "-1.5 KB");
            table.Add("timer 9", "475.7 KB go", "+1.0 GB");
            table.Add("Timer 1", "0 B go", "-2.0 MB");
            page.Table(table);
        });
        await using var opened = await browser.Open(file);
        var page = opened.Page;
        async Task<string> Sorted(string by)
        {
            await page.GetByRole(AriaRole.Button, new() { Name = by }).ClickAsync();
            return string.Join(", ", await page.Locator("tbody tr").EvaluateAllAsync<string[]>("all => all.map(r => r.cells[0].textContent)"));
        }
        (await page.GetByLabel("Filter").CountAsync()).ShouldBe(0, "three rows need none");
        (await Sorted("Files")).ShouldBe("Timer 1, timer 9, Timer 10");
        (await Sorted("Change")).ShouldBe("Timer 1, Timer 10, timer 9");
        (await Sorted("Package")).ShouldBe("Timer 1, timer 9, Timer 10");
        (await Sorted("Package")).ShouldBe("Timer 10, timer 9, Timer 1");
    }

    [Fact]
    public async Task All_of_it_can_be_done_with_the_keyboard()
    {
        await using var opened = await browser.Open(Page("inventory.html", "inventory", Root));
        var page = opened.Page;
        await page.Keyboard.PressAsync("Tab");
        await page.Keyboard.TypeAsync("weather");
        (await page.Locator("tbody tr:visible").CountAsync()).ShouldBe(1);
        await page.Keyboard.PressAsync("Tab"); // the region of the table
        await page.Keyboard.PressAsync("Tab");
        await page.Keyboard.PressAsync("Enter");
        (await page.Locator("th[aria-sort]").TextContentAsync())!.ShouldContain("Package");
        (await page.EvaluateAsync<string>("getComputedStyle(document.activeElement).outlineStyle")).ShouldBe("solid");
        while (await page.EvaluateAsync<string>("document.activeElement.tagName") != "A")
            await page.Keyboard.PressAsync("Tab");
        await page.Keyboard.PressAsync("Enter");
        await Assertions.Expect(page.Locator("h3:target")).ToHaveTextAsync("Weather");
        await Assertions.Expect(page.Locator("h3:target")).ToBeInViewportAsync();
    }

    [Fact]
    public async Task Every_kind_of_page_is_accessible_asks_for_nothing_and_fits_any_width()
    {
        string before = Save("before.saved", Root), run = RunPage();
        string[] pages =
        [
            Page("inventory.html", "inventory", Root), run, Page("point.html", "restore-point", "show", "1"), FleetPage(),
            Page("compare.html", "compare", before, Root), Page("weeks.html", "inventory", Forty["pcs.fleet"], "--weeks", "10"),
            Page("check.html", "check", Forty["pcs.fleet"], "--brief", Forty["fleet/rings"]), Page("explain.html", "explain", Root, "Films"),
        ];
        foreach (string file in pages)
        {
            foreach (var colors in new[] { ColorScheme.Light, ColorScheme.Dark })
            {
                await using var opened = await browser.Open(file, colors: colors);
                string name = $"{Path.GetFileName(file)} {colors}";
                (await opened.Violations()).ShouldBeEmpty(name);
                opened.Requests.ShouldBe([$"file://{file}"], name);
                opened.Troubles.ShouldBeEmpty(name);
                foreach (int width in new[] { 320, 640, 1024, 1600 })
                {
                    await opened.Page.SetViewportSizeAsync(width, 800);
                    (await opened.Page.EvaluateAsync<int>("document.documentElement.scrollWidth")).ShouldBeLessThanOrEqualTo(width, name);
                }
            }
        }
    }

    [Fact]
    public async Task Hostile_names_run_nothing_and_are_shown_as_they_are()
    {
        string file = PageOf("hostile.html", page =>
        {
            page.Heading(Hostile);
            page.Line(Hostile);
            page.Fact(Hostile, Hostile, 1);
            page.Error(Hostile);
            var table = new TextTable(Hostile, "Size");
            for (int i = 0; i < 9; i++)
                table.Add(new TableCell($"{i} {Hostile}", Details: "p1"), new TableCell("1"));
            page.Table(table);
            page.Plot(new LinePlot(Hostile, Hostile, [Hostile, "b"], [new(Hostile, [1, 2])]));
            page.Plot(new BarPlot(Hostile, [new(Hostile, new(1, Hostile), new(2, Hostile))]));
            page.Plot(new MatrixPlot(Hostile, [Hostile], [Hostile], [Hostile, "1", "2", "3"], [0]));
            page.Details("p1", Hostile, part => part.Line(Hostile));
        });
        await using var opened = await browser.Open(file);
        var page = opened.Page;
        opened.Troubles.ShouldBeEmpty();
        opened.Requests.Count.ShouldBe(1);
        (await page.Locator("h1").TextContentAsync()).ShouldBe(Hostile);
        (await page.Locator("tbody td").First.TextContentAsync()).ShouldBe($"0 {Hostile}");
        (await page.Locator("img").CountAsync()).ShouldBe(0);
        (await page.Locator("script").CountAsync()).ShouldBe(2, "the page's own, and the matrix's data");
        await page.Locator("canvas").HoverAsync(new() { Position = new() { X = 195, Y = 115 } });
        await Assertions.Expect(page.Locator(".matrix p").Last).ToHaveTextAsync($"{Hostile} on {Hostile}: {Hostile}.");
        // Even if markup got in, the policy of the page would let nothing run.
        await page.EvaluateAsync("document.body.insertAdjacentHTML('beforeend', '<img src=x onerror=\"window.ran = 1\">');"
            + "const s = document.createElement('script'); s.textContent = 'window.ran = 1'; document.body.append(s);");
        (await page.EvaluateAsync<bool>("window.ran === undefined")).ShouldBeTrue();
        opened.Troubles.ShouldNotBeEmpty();
    }

    [Fact]
    public async Task Without_its_script_a_page_says_the_same()
    {
        await using var opened = await browser.Open(FleetPage(), script: false);
        string text = await opened.Page.Locator("main").InnerTextAsync();
        foreach (string part in new[] { "COUNTER-25", "Kestrelworks Tour", "ring-2-harbour", "The matrix is drawn by a script.", "Coverage" })
            text.ShouldContain(part);
        (await opened.Page.Locator("canvas, input, button").CountAsync()).ShouldBe(0);
    }

    [Fact]
    public async Task A_matrix_shows_what_the_table_says()
    {
        await using var opened = await browser.Open(FleetPage());
        var page = opened.Page;
        // Where a cell has the accent's colour, it is filled: counted along one line of the picture for each package.
        var counted = await page.EvaluateAsync<JsonElement>("""
            () => {
              const canvas = document.querySelector("canvas"), pen = canvas.getContext("2d");
              const { rows, columns } = JSON.parse(document.querySelector(".matrix script").textContent);
              const wide = (canvas.width - 194) / columns.length;
              return rows.map((name, row) => [name, columns.filter((_, c) => {
                const [r, g, b] = pen.getImageData(190 + c * wide + wide / 2, 110 + row * 14 + 11, 1, 1).data;
                return r < 40 && g > 60 && b > 80;
              }).length]);
            }
            """);
        var table = page.Locator("h2:text-is(\"Packages\") ~ .scroll").First.Locator("tbody tr");
        string[] rows = await table.EvaluateAllAsync<string[]>("all => all.map(r => r.cells[0].textContent + ' ' + r.cells[1].textContent)");
        rows.Length.ShouldBeGreaterThan(20);
        counted.EnumerateArray().Select(c => $"{c[0].GetString()} {c[1].GetInt32()}").ShouldBe(rows);
        await page.Locator("canvas").HoverAsync(new() { Position = new() { X = 190 + 8, Y = 110 + 7 } });
        await Assertions.Expect(page.Locator(".matrix p").Last).ToHaveTextAsync("Battery Keeper on BRIDGE-01: not there.");
    }

    [Fact]
    public async Task A_print_has_all_rows_and_headings_on_each_sheet()
    {
        string file = PageOf("long.html", page =>
        {
            page.Heading("400 packages");
            var table = new TextTable("Package", "Remarks").Quiet(1);
            for (int i = 0; i < 400; i++)
                table.Add($"Larkfield Crossword {i:000}", "needed by Larkfield Anagrams");
            page.Table(table);
        });
        await using var opened = await browser.Open(file, colors: ColorScheme.Dark);
        await opened.Page.PdfAsync(new() { Path = Folder["long.pdf"], Format = "A4", PrintBackground = true });
        string[] sheets = Tool.Read("pdftotext", "-layout", Folder["long.pdf"], "-").TrimEnd('\f', '\n').Split('\f');
        sheets.Length.ShouldBeGreaterThan(4);
        sheets.ShouldAllBe(s => s.Contains("Remarks"));
        string.Concat(sheets).Split("Larkfield Crossword ").Length.ShouldBe(401);
        string.Concat(sheets).ShouldNotContain("Filter");
    }
}
