using System.Net.Http.Json;
using System.Text.Json;
using Microsoft.Playwright;
using Oikonom.Contracts;
using Oikonom.Testing;
using Xunit;

namespace Oikonom.Console.Tests;

/// <summary>One browser and one service for all tests of the console.</summary>
public sealed class BrowserFixture : IAsyncLifetime
{
    private IPlaywright _playwright = null!;

    public IBrowser Browser { get; private set; } = null!;
    public TestDirectory Directory { get; private set; } = null!;
    public World World { get; private set; } = null!;

    public async ValueTask InitializeAsync()
    {
        Directory = await TestDirectory.StartAsync();
        World = await World.StartAsync(Directory, new() { OwnProcess = true, Console = Repository.At("console", "dist") });
        // Only what never comes costs so long; a busy machine takes its time.
        Assertions.SetDefaultExpectTimeout(30_000);
        _playwright = await Playwright.CreateAsync();
        Browser = await _playwright.Chromium.LaunchAsync(
            new()
            {
                ExecutablePath = "/usr/bin/chromium",
                Args =
                [
                    "--headless",
                    "--no-sandbox",
                    "--disable-gpu",
                    "--disable-quic",
                    "--no-first-run",
                    "--disable-background-networking",
                    "--disable-component-update",
                    "--disable-sync",
                ],
            }
        );
    }

    public async ValueTask DisposeAsync()
    {
        await Browser.DisposeAsync();
        _playwright.Dispose();
        await World.DisposeAsync();
        await Directory.DisposeAsync();
    }
}

/// <summary>The console in a real browser, under its strict policy. Any error on a page fails the test.</summary>
public sealed class ConsoleTests(BrowserFixture fixture) : IClassFixture<BrowserFixture>, IAsyncLifetime
{
    private readonly World _world = fixture.World;
    private readonly List<string> _errors = [];
    private IBrowserContext _context = null!;
    private IPage _page = null!;

    public async ValueTask InitializeAsync() => await OpenAsync(ColorScheme.Light);

    private async Task OpenAsync(ColorScheme scheme)
    {
        _context = await fixture.Browser.NewContextAsync(
            new()
            {
                BaseURL = _world.Address,
                ColorScheme = scheme,
                ViewportSize = new() { Width = 1280, Height = 800 },
            }
        );
        _context.SetDefaultTimeout(60_000);
        _page = await _context.NewPageAsync();
        _page.PageError += (_, error) => _errors.Add(error);
        _page.Console += (_, message) =>
        {
            // A refusal of the service shows as a failed resource; what the page makes of it is looked at below.
            if (message.Type == "error" && !message.Text.Contains("Failed to load resource", StringComparison.Ordinal))
                _errors.Add(message.Text);
        };
    }

    public async ValueTask DisposeAsync()
    {
        await _context.DisposeAsync();
        Assert.Empty(_errors);
        GC.SuppressFinalize(this);
    }

    private async Task SignInAsync(string name, string from = "/")
    {
        await _page.GotoAsync(from);
        await _page.GetByLabel("Name").FillAsync(name);
        await _page.GetByLabel("Password").FillAsync(World.Password);
        await _page.GetByRole(AriaRole.Button, new() { Name = "Sign in" }).ClickAsync();
    }

    /// <summary>Ends the session. The page is left first: one that still asks would be sent to sign in.</summary>
    private async Task LeaveAsync()
    {
        await _page.GotoAsync("about:blank");
        await _page.Context.ClearCookiesAsync();
    }

    /// <summary>Asks until the page is there: waiting for an event of the browser misses one that comes in between.</summary>
    private Task AtAsync(string path) => Assertions.Expect(_page).ToHaveURLAsync(_world.Address.TrimEnd('/') + path);

    private ILocator Text(string text) => _page.GetByText(text).First;

    private async Task RequireAccessibleAsync(string where)
    {
        await _page.EvaluateAsync(await File.ReadAllTextAsync(Repository.At("console", "node_modules", "axe-core", "axe.min.js")));
        var result = await _page.EvaluateAsync<JsonElement>(
            "() => axe.run(document, { runOnly: ['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa', 'wcag22aa', 'best-practice'] })"
        );
        var faults = result
            .GetProperty("violations")
            .EnumerateArray()
            .Select(v => $"{where}: {v.GetProperty("id").GetString()}: {v.GetProperty("nodes")[0].GetProperty("html").GetString()}");
        Assert.Empty(faults);
    }

    [Fact]
    public async Task A_request_is_approved_released_and_seen_to_complete_by_itself()
    {
        var row = HrRow.New("Kaya");
        var request = await _world.BringAsync(row, "deciding");
        await SignInAsync("mara");
        await _page.GetByRole(AriaRole.Link, new() { Name = $"Kaya {row.Family}, joiner" }).ClickAsync();
        await Assertions.Expect(Text($"New account kaya.{row.Family.ToLowerInvariant()} in Northmere directory")).ToBeVisibleAsync();
        await Assertions.Expect(Text($"kaya.{row.Family.ToLowerInvariant()}@northmere.example")).ToBeVisibleAsync();
        await Assertions.Expect(Text("department == \"Dive Team\"")).ToBeVisibleAsync();

        // By keyboard alone: a opens the question, Enter says yes.
        await _page.Keyboard.PressAsync("a");
        await Assertions.Expect(_page.GetByRole(AriaRole.Dialog)).ToBeVisibleAsync();
        await _page.Keyboard.PressAsync("Enter");
        await Assertions.Expect(Text("It is approved and waits for release.")).ToBeVisibleAsync();

        // Released elsewhere, the page moves by itself.
        await _world.ReleaseAsync(await _world.RequestAsync(request.Summary.Id));
        await Assertions.Expect(Text("All steps are done; the targets were read back")).ToBeVisibleAsync();
        await Assertions.Expect(_page.GetByText("Done", new() { Exact = true })).ToHaveCountAsync(9);

        await _page.GetByRole(AriaRole.Link, new() { Name = row.Number }).ClickAsync();
        await Assertions
            .Expect(_page.GetByRole(AriaRole.Img, new() { Name = $"Employment, accounts and grants of Kaya {row.Family} over time" }))
            .ToBeVisibleAsync();
        await Assertions.Expect(_page.GetByRole(AriaRole.Cell, new() { Name = "Dive team", Exact = true })).ToBeVisibleAsync();
    }

    [Fact]
    public async Task A_decision_is_made_on_a_telephone()
    {
        var row = HrRow.New("Una");
        var request = await _world.BringAsync(row, "deciding");
        await _page.SetViewportSizeAsync(390, 844);
        await SignInAsync("mara");
        await Assertions.Expect(_page.GetByRole(AriaRole.Link, new() { Name = "MARA" })).ToBeVisibleAsync();
        // The head is one line, and nothing stands out of the page to the right.
        Assert.InRange(await _page.EvaluateAsync<double>("document.querySelector('header').getBoundingClientRect().height"), 30, 64);
        foreach (var page in new[] { "/", "/inbox", "/requests", $"/requests/{request.Summary.Id}", "/me" })
        {
            await _page.GotoAsync(page);
            await Assertions.Expect(_page.GetByRole(AriaRole.Heading).First).ToBeVisibleAsync();
            Assert.True(await _page.EvaluateAsync<int>("document.documentElement.scrollWidth") <= 390, page);
            await RequireAccessibleAsync($"{page} on a telephone");
        }
        await _page.GotoAsync($"/requests/{request.Summary.Id}");
        await _page.GetByRole(AriaRole.Button, new() { Name = "Approve" }).ClickAsync();
        await _page.GetByRole(AriaRole.Dialog).GetByRole(AriaRole.Button, new() { Name = "Approve" }).ClickAsync();
        await Assertions.Expect(Text("It is approved and waits for release.")).ToBeVisibleAsync();
        await _page.GotoAsync("/me");
        await _page.GetByRole(AriaRole.Button, new() { Name = "Sign out" }).ClickAsync();
        await Assertions.Expect(_page.GetByRole(AriaRole.Button, new() { Name = "Sign in" })).ToBeVisibleAsync();
    }

    [Fact]
    public async Task A_decline_needs_a_reason_and_a_stale_page_is_told()
    {
        var request = await _world.BringAsync(HrRow.New(), "deciding");
        await SignInAsync("mara", $"/requests/{request.Summary.Id}");
        await _page.GetByRole(AriaRole.Button, new() { Name = "Decline" }).ClickAsync();
        await _page.GetByRole(AriaRole.Dialog).GetByRole(AriaRole.Button, new() { Name = "Decline" }).ClickAsync();
        Assert.Equal("deciding", (await _world.RequestAsync(request.Summary.Id)).Summary.State);
        await _page.GetByLabel("Reason").FillAsync("The post was cut");

        // Somebody decides in between.
        await _world.ApproveAsync(request);
        await _page.GetByRole(AriaRole.Dialog).GetByRole(AriaRole.Button, new() { Name = "Decline" }).ClickAsync();
        await Assertions.Expect(_page.GetByRole(AriaRole.Alert)).ToContainTextAsync("approved and waiting for release");
        Assert.Equal("releasing", (await _world.RequestAsync(request.Summary.Id)).Summary.State);
    }

    [Fact]
    public async Task Who_may_not_decide_sees_why_and_no_buttons()
    {
        var request = await _world.BringAsync(HrRow.New(), "deciding");
        await SignInAsync("tomas", $"/requests/{request.Summary.Id}");
        await Assertions.Expect(Text("This decision belongs to the line manager (MARA).")).ToBeVisibleAsync();
        await Assertions.Expect(_page.GetByRole(AriaRole.Button, new() { Name = "Approve" })).ToHaveCountAsync(0);
    }

    [Fact]
    public async Task The_operator_picks_one_of_several_entries()
    {
        await using var ldap = await fixture.Directory.ConnectAsync();
        var row = HrRow.New();
        foreach (var name in new[] { "a-", "b-" })
            await ldap.AddAsync(
                TestDirectory.Dn(name + row.Number.ToLowerInvariant()),
                TestDirectory.Person(name + row.Number.ToLowerInvariant(), row.Number)
            );
        _world.WriteHr(row);
        var raised = (await _world.RunIntakeAsync()).Requests.Single(r => r.Number == row.Number);
        await _world.WaitForAsync(raised.Id, "choosing");
        await SignInAsync("otto", $"/requests/{raised.Id}");
        await Assertions.Expect(Text("Which of these is")).ToBeVisibleAsync();
        await RequireAccessibleAsync("choice");
        await _page.GetByRole(AriaRole.Button, new() { Name = "This one" }).First.ClickAsync();
        await Assertions.Expect(Text("Take over the existing account")).ToBeVisibleAsync();
    }

    [Fact]
    public async Task Lists_filter_through_the_address_and_walk_by_keyboard()
    {
        var request = await _world.BringAsync(HrRow.New("Findme"), "deciding");
        await SignInAsync("aldo", "/requests?state=deciding");
        await Assertions.Expect(_page.GetByRole(AriaRole.Heading, new() { Name = "Requests" })).ToBeVisibleAsync();
        await _page.Keyboard.PressAsync("/");
        await _page.Keyboard.TypeAsync(request.Summary.PersonNumber);
        await Assertions.Expect(_page.GetByRole(AriaRole.Row)).ToHaveCountAsync(2);
        await AtAsync($"/requests?state=deciding&text={request.Summary.PersonNumber}");
        await _page.GetByRole(AriaRole.Rowgroup).Last.FocusAsync();
        await _page.Keyboard.PressAsync("Enter");
        await AtAsync($"/requests/{request.Summary.Id}");
        await Assertions.Expect(_page.GetByRole(AriaRole.Heading, new() { Name = "Ledger" })).ToBeVisibleAsync();
        await _page.Keyboard.PressAsync("g");
        await _page.Keyboard.PressAsync("p");
        await Assertions.Expect(_page.GetByRole(AriaRole.Heading, new() { Name = "People" })).ToBeVisibleAsync();
        await _page.GetByRole(AriaRole.Searchbox).FillAsync("nobody is called this");
        await Assertions.Expect(Text("Nobody is like that.")).ToBeVisibleAsync();
    }

    [Fact]
    public async Task Sign_in_refuses_in_words_and_leads_back_and_never_elsewhere()
    {
        await _page.GotoAsync("/people");
        await AtAsync("/sign-in?onward=%2Fpeople");
        await _page.GetByLabel("Name").FillAsync("otto");
        await _page.GetByLabel("Password").FillAsync("wrong");
        await _page.Keyboard.PressAsync("Enter");
        await Assertions.Expect(_page.GetByRole(AriaRole.Alert)).ToContainTextAsync("The name or the password is wrong.");
        await _page.GetByLabel("Password").FillAsync(World.Password);
        await _page.Keyboard.PressAsync("Enter");
        await Assertions.Expect(_page.GetByRole(AriaRole.Heading, new() { Name = "People" })).ToBeVisibleAsync();
        await _page.GetByRole(AriaRole.Button, new() { Name = "Sign out" }).ClickAsync();
        await AtAsync("/sign-in");
        await SignInAsync("otto", "/sign-in?onward=//elsewhere.example/");
        await AtAsync("/");
        await _page.GotoAsync("/requests/999999");
        await Assertions.Expect(_page.GetByRole(AriaRole.Alert)).ToContainTextAsync("There is no request '999999'");
        await _page.GotoAsync("/nowhere");
        await Assertions.Expect(Text("There is no such page")).ToBeVisibleAsync();
    }

    [Theory]
    [InlineData(ColorScheme.Light)]
    [InlineData(ColorScheme.Dark)]
    public async Task Every_page_is_accessible_in_light_and_dark(ColorScheme scheme)
    {
        await _context.DisposeAsync();
        await OpenAsync(scheme);
        var waiting = await _world.BringAsync(HrRow.New(), "deciding");
        var done = await _world.BringAsync(
            HrRow.New() with
            {
                Kind = "seasonal",
                End = DateTimeOffset.UtcNow.AddDays(60).ToString("yyyy-MM-dd", null),
            }
        );
        await _page.GotoAsync("/sign-in");
        await RequireAccessibleAsync("sign-in");
        await SignInAsync("mara");
        await Assertions.Expect(_page.GetByRole(AriaRole.Heading, new() { Name = "Waits for you" })).ToBeVisibleAsync();
        await RequireAccessibleAsync("today");
        await _page.GotoAsync("/inbox");
        await Assertions.Expect(_page.GetByRole(AriaRole.Table)).ToBeVisibleAsync();
        await RequireAccessibleAsync("inbox");
        foreach (
            var (path, heading) in new[]
            {
                ("/requests", "Requests"),
                ($"/requests/{waiting.Summary.Id}", "The whole effect"),
                ($"/requests/{done.Summary.Id}", "What was said and done"),
                ("/requests?board=true&open=true", "Requests"),
                ("/workflows", "Workflows"),
                ("/me", "While I am away"),
                ("/people", "People"),
                ($"/people/{done.Summary.PersonId}", "Lifeline"),
            }
        )
        {
            await _page.GotoAsync(path);
            await Assertions.Expect(_page.GetByRole(AriaRole.Heading, new() { Name = heading, Exact = true })).ToBeVisibleAsync();
            await Assertions.Expect(_page.GetByText("is loading")).ToHaveCountAsync(0);
            await RequireAccessibleAsync(path);
        }
        await _page.GotoAsync($"/requests/{waiting.Summary.Id}");
        await _page.GetByRole(AriaRole.Button, new() { Name = "Approve" }).ClickAsync();
        await Assertions.Expect(_page.GetByRole(AriaRole.Dialog)).ToBeVisibleAsync();
        await RequireAccessibleAsync("dialog");
    }

    [Fact]
    public async Task A_request_is_raised_by_hand_with_its_effect_shown_while_typing()
    {
        var row = HrRow.New("Ria");
        await _world.BringAsync(row);
        await SignInAsync("ines", $"/requests/new?kind=access&person={row.Number}");
        await Assertions.Expect(Text($"Ria {row.Family} ({row.Number})")).ToBeVisibleAsync();
        await _page.GetByPlaceholder("Search the catalogue").FillAsync("invoices");
        await _page.GetByRole(AriaRole.Button, new() { Name = "Payments" }).First.ClickAsync();
        await Assertions.Expect(_page.Locator("dl dd", new() { HasText = "asked for" })).ToContainTextAsync("Payments");
        var raise = _page.GetByRole(AriaRole.Button, new() { Name = "Raise the request" });
        await Assertions.Expect(raise).ToBeDisabledAsync();
        await Assertions.Expect(Text("Say what it is needed for")).ToBeVisibleAsync();
        await _page.GetByLabel("Reason").FillAsync("winter audit");
        await _page.GetByLabel("Until, that day included").FillAsync("2034-01-31");
        await Assertions.Expect(Text("the line manager (mara)")).ToBeVisibleAsync();
        await RequireAccessibleAsync("new request");
        await raise.ClickAsync();
        await Assertions.Expect(Text("winter audit")).ToBeVisibleAsync();
        await Assertions.Expect(_page.GetByRole(AriaRole.Button, new() { Name = "Take back" })).ToBeVisibleAsync();
        await Assertions.Expect(Text("decides now")).ToBeVisibleAsync();
    }

    [Fact]
    public async Task Several_are_approved_at_once_after_a_look_at_what_they_bring_together()
    {
        var rows = new[] { HrRow.New("Ada"), HrRow.New("Ben") };
        _world.WriteHr(rows);
        var raised = (await _world.RunIntakeAsync()).Requests.Where(r => rows.Any(x => x.Number == r.Number)).ToList();
        foreach (var r in raised)
            await _world.WaitForAsync(r.Id, "deciding");
        await SignInAsync("mara");
        await _page.GetByRole(AriaRole.Navigation).GetByRole(AriaRole.Link, new() { Name = "Inbox" }).ClickAsync();
        // The keys work without a click: the first j shows where one is, x chooses and lets go.
        await _page.GotoAsync("/inbox");
        await _page.GetByLabel($"Choose {rows[0].Given} {rows[0].Family}").WaitForAsync();
        await _page.Keyboard.PressAsync("j");
        await _page.Keyboard.PressAsync("x");
        await Assertions.Expect(Text("1 chosen")).ToBeVisibleAsync();
        await _page.Keyboard.PressAsync("x");
        await Assertions.Expect(Text("None chosen")).ToBeVisibleAsync();
        foreach (var row in rows)
            await _page.GetByLabel($"Choose {row.Given} {row.Family}").CheckAsync();
        await _page.Keyboard.PressAsync("a");
        await Assertions.Expect(Text("Together for 2 people: 2 accounts made, 6 entitlements given.")).ToBeVisibleAsync();
        await RequireAccessibleAsync("joint effect");
        await _page.GetByRole(AriaRole.Dialog).GetByRole(AriaRole.Button, new() { Name = "Approve 2" }).ClickAsync();
        await Assertions.Expect(_page.GetByRole(AriaRole.Dialog)).ToHaveCountAsync(0);
        foreach (var r in raised)
            await _world.WaitForAsync(r.Id, "releasing");
    }

    [Fact]
    public async Task Work_by_hand_is_done_at_the_desk()
    {
        var row = HrRow.New("Ole") with { Department = "Research", Kind = "researcher", End = "2034-09-30" };
        _world.WriteHr(row);
        var raised = (await _world.RunIntakeAsync()).Requests.Single(r => r.Number == row.Number);
        var request = await _world.WaitForAsync(raised.Id, "deciding");
        await _world.ApproveAsync(request);
        await _world.ReleaseAsync(request);
        await SignInAsync("otto", "/desk");
        await _page.GetByRole(AriaRole.Link, new() { Name = $"Give Ole {row.Family}: Laboratory key" }).ClickAsync();
        await _page.GetByLabel("Number of the key").FillAsync("RP-0412");
        await _page.GetByLabel("The person showed a badge").CheckAsync();
        await _page.GetByLabel("The person signed for the key").CheckAsync();
        await RequireAccessibleAsync("desk");
        await _page.GetByRole(AriaRole.Button, new() { Name = "Done", Exact = true }).ClickAsync();
        await Assertions.Expect(_page.GetByRole(AriaRole.Alert)).ToContainTextAsync("Add evidence");
        await _page.GetByLabel("Evidence in words, or add a file below").FillAsync("signed at the gate");
        await _page.GetByRole(AriaRole.Button, new() { Name = "Done", Exact = true }).ClickAsync();
        await _world.WaitForAsync(raised.Id, "completed");
    }

    [Fact]
    public async Task A_password_is_shown_once()
    {
        await _world.BringAsync(HrRow.New());
        var mails = await _world.EventuallyAsync(
            () => Task.FromResult(_world.Mail!.Mails),
            m => m.Any(x => x.Subject.StartsWith("First password", StringComparison.Ordinal))
        );
        var link = mails
            .Last(m => m.Subject.StartsWith("First password", StringComparison.Ordinal))
            .Body.Split('\n')
            .Single(l => l.StartsWith("http", StringComparison.Ordinal))
            .Trim();
        await SignInAsync("mara", new Uri(link).AbsolutePath);
        await _page.GetByRole(AriaRole.Button, new() { Name = "Show the password once" }).ClickAsync();
        Assert.Equal(16, (await _page.GetByLabel("Password").InnerTextAsync()).Trim().Length);
        await RequireAccessibleAsync("handover");
        await _page.ReloadAsync();
        await Assertions.Expect(_page.GetByRole(AriaRole.Alert)).ToContainTextAsync("This link was used before.");
    }

    /// <summary>Puts a text in the place of what stands in the editor, as pasting it over everything does.</summary>
    private async Task PasteAsync(ILocator editor, string text)
    {
        await editor.FocusAsync();
        await _page.Keyboard.PressAsync("Control+a");
        await editor.EvaluateAsync(
            """
            (at, text) => {
              const clipboardData = new DataTransfer();
              clipboardData.setData('text/plain', text);
              at.dispatchEvent(new ClipboardEvent('paste', { clipboardData, bubbles: true, cancelable: true }));
            }
            """,
            text
        );
    }

    [Fact]
    public async Task A_draft_is_marked_as_it_is_typed_rehearsed_compared_and_published()
    {
        _world.WriteHr(HrRow.New() with { Department = "Research" }, HrRow.New());
        await _world.BaselineAsync();
        await SignInAsync("edda", "/rulebook?file=templates%2Fdive-team.yaml");
        var field = _page.GetByLabel("Text of templates/dive-team.yaml");
        var text = (await _world.GetAsync<EditionDetail>("/api/v1/rulebook/editions/current", "edda"))
            .Files.Single(f => f.Path == "templates/dive-team.yaml")
            .Text;
        await PasteAsync(field, text.Replace("department ==", "departmant ==", StringComparison.Ordinal));
        await Text("Did you mean 'department'?").WaitForAsync();
        Assert.True(await _page.GetByRole(AriaRole.Button, new() { Name = "Publish" }).IsDisabledAsync());
        await RequireAccessibleAsync("rulebook with an error");
        await PasteAsync(field, text.Replace("\"Dive Team\"", "\"Research\"", StringComparison.Ordinal));
        await Text("sound, not published").WaitForAsync();
        await _page.GetByRole(AriaRole.Link, new() { Name = "Difference (1)" }).ClickAsync();
        await Text("when: department == \"Research\"").WaitForAsync();
        await RequireAccessibleAsync("difference");
        await _page.GetByRole(AriaRole.Link, new() { Name = "Rehearsal" }).ClickAsync();
        await _page.GetByRole(AriaRole.Button, new() { Name = "Rehearse" }).ClickAsync();
        await Text("gains directory/dive-team").WaitForAsync();
        await Text("loses directory/dive-team").WaitForAsync();
        await RequireAccessibleAsync("rehearsal");
        await _page.ReloadAsync();
        await _page.GetByRole(AriaRole.Link, new() { Name = "Check (" }).ClickAsync();
        await Text("Warning nobody-matches").WaitForAsync();
        await RequireAccessibleAsync("check");
        var before = (await _world.GetAsync<EditionDetail>("/api/v1/rulebook/editions/current", "edda")).Number;
        await _page.GetByRole(AriaRole.Button, new() { Name = "Publish" }).ClickAsync();
        await _page.GetByRole(AriaRole.Dialog).GetByRole(AriaRole.Button, new() { Name = "Publish" }).ClickAsync();
        await Text($"edition {before + 1}").WaitForAsync();
        await World.OkAsync(
            (await _world.SignInAsync("edda")).PostAsJsonAsync("/api/v1/rulebook/editions", new RulebookBody(_world.Rulebook()))
        );
    }

    [Fact]
    public async Task An_account_of_nobody_gets_an_owner_and_its_end_is_asked_for()
    {
        var owner = HrRow.New("Ossian");
        var name = "svc-" + owner.Number.ToLowerInvariant();
        await using (var ldap = await _world.Directory.ConnectAsync())
            await ldap.AddAsync(TestDirectory.Dn(name), TestDirectory.Person(name, "S-" + owner.Number));
        _world.WriteHr(owner);
        await _world.BaselineAsync();
        await SignInAsync("otto", "/targets");
        var line = _page.GetByRole(AriaRole.Row).Filter(new() { HasText = name });
        await Assertions.Expect(line).ToContainTextAsync("unmatched");
        await Assertions.Expect(line.GetByRole(AriaRole.Button, new() { Name = "Close it" })).ToHaveCountAsync(0);
        await line.GetByRole(AriaRole.Button, new() { Name = "Say what it is" }).ClickAsync();
        var dialog = _page.GetByRole(AriaRole.Dialog);
        await RequireAccessibleAsync("say what it is");
        await dialog.GetByLabel("Remark for the ledger").FillAsync("nightly copies");
        await dialog.GetByRole(AriaRole.Button, new() { Name = "Write it down" }).ClickAsync();
        // Without an owner it says what is missing, and nothing is written.
        await Assertions.Expect(dialog).ToContainTextAsync("Name who answers for it");
        await dialog.GetByLabel("Who answers for it").FillAsync(owner.Family);
        await dialog.GetByRole(AriaRole.Button, new() { Name = owner.Number }).ClickAsync();
        await dialog.GetByRole(AriaRole.Button, new() { Name = "Write it down" }).ClickAsync();
        // It is decided: it stands among those of programs.
        await Assertions.Expect(line).ToHaveCountAsync(0);
        await _page.GetByLabel("Show", new() { Exact = true }).SelectOptionAsync("service");
        await Assertions.Expect(line).ToContainTextAsync($"Ossian {owner.Family}, {owner.Number}");
        await Assertions.Expect(line).ToContainTextAsync("service");
        await line.GetByRole(AriaRole.Button, new() { Name = "Close it" }).ClickAsync();
        await dialog.GetByLabel("Reason").FillAsync("replaced");
        await dialog.GetByRole(AriaRole.Button, new() { Name = "Ask for it" }).ClickAsync();
        await line.GetByRole(AriaRole.Link, new() { Name = "request " }).ClickAsync();
        await Assertions.Expect(_page.GetByRole(AriaRole.Heading, new() { Name = name })).ToBeVisibleAsync();
        await Assertions.Expect(Text($"Ossian {owner.Family} answers for it")).ToBeVisibleAsync();
        await Assertions.Expect(_page.Locator("dl > div", new() { HasText = "Lost" })).ToContainTextAsync($"Account {name}");
        await RequireAccessibleAsync("request about an account");
    }

    [Fact]
    public async Task A_target_is_checked_paused_let_go_on_and_read_whole()
    {
        await SignInAsync("otto", "/targets");
        await _page.GetByRole(AriaRole.Link, new() { Name = "Northmere directory" }).ClickAsync();
        await _page.GetByRole(AriaRole.Button, new() { Name = "Check it" }).ClickAsync();
        await Assertions.Expect(Text("Signed in; containers and")).ToBeVisibleAsync();
        await Assertions.Expect(_page.GetByRole(AriaRole.Region, new() { Name = "The last check" })).ToContainTextAsync("Place of groups");
        await RequireAccessibleAsync("a target");

        await _page.GetByRole(AriaRole.Button, new() { Name = "Pause" }).ClickAsync();
        var dialog = _page.GetByRole(AriaRole.Dialog);
        await RequireAccessibleAsync("pause a target");
        await dialog.GetByLabel("Why").FillAsync("The replica is rebuilt");
        await dialog.GetByRole(AriaRole.Button, new() { Name = "Pause it" }).ClickAsync();
        await Assertions.Expect(Text("Paused by otto: The replica is rebuilt")).ToBeVisibleAsync();
        await _page.GetByRole(AriaRole.Button, new() { Name = "Let it go on" }).ClickAsync();
        await Assertions.Expect(_page.GetByRole(AriaRole.Heading, new() { Name = "It works" })).ToBeVisibleAsync();

        var name = "kiosk-" + HrRow.New().Number.ToLowerInvariant();
        await using (var ldap = await _world.Directory.ConnectAsync())
            await ldap.AddAsync(TestDirectory.Dn(name), TestDirectory.Person(name, "S-" + name));
        await _page.GetByRole(AriaRole.Button, new() { Name = "Only look" }).ClickAsync();
        await _page.GetByRole(AriaRole.Button, new() { Name = "answers to nobody" }).ClickAsync();
        await Assertions.Expect(_page.GetByRole(AriaRole.Row).Filter(new() { HasText = name })).ToContainTextAsync("answers to nobody");
        await Assertions.Expect(Text("it was only looked")).ToBeVisibleAsync();
        await RequireAccessibleAsync("what was found in a target");
    }

    [Fact]
    public async Task A_roll_out_is_looked_at_decided_by_department_and_seen_to_end()
    {
        var row = HrRow.New() with { Title = "Bellmaker", Department = "Workshop" };
        await _world.BringAsync(row);
        await World.OkAsync(
            (await _world.SignInAsync("edda")).PostAsJsonAsync(
                "/api/v1/rulebook/editions",
                new RulebookBody(
                    _world.Rulebook(
                        (path, text) =>
                            path == "rulebook.yaml"
                                ? text.Replace("group:data-office\n  brake", "person:E9002\n  brake", StringComparison.Ordinal)
                            : path == "templates/everyone.yaml"
                                ? text + "  - to: directory/research-lab\n    when: title == \"Bellmaker\"\n"
                            : text
                    )
                )
            )
        );
        await SignInAsync("mara");
        await _page.GetByRole(AriaRole.Link, new() { Name = "Roll-out " }).First.ClickAsync();
        await Text("1 to be decided.").WaitForAsync();
        await Text("gains directory/research-lab").WaitForAsync();
        await RequireAccessibleAsync("roll-out");
        await _page.GetByRole(AriaRole.Button, new() { Name = "Approve Workshop" }).ClickAsync();
        await RequireAccessibleAsync("roll-out, deciding");
        await _page.GetByRole(AriaRole.Dialog).GetByRole(AriaRole.Button, new() { Name = "Approve 1 person of Workshop" }).ClickAsync();
        await Text("1 approved and not begun.").WaitForAsync();
        var place = new Uri(_page.Url).AbsolutePath;
        await LeaveAsync();
        await SignInAsync("otto", place);
        await _page.GetByRole(AriaRole.Button, new() { Name = "Begin wave 1" }).ClickAsync();
        await _page.GetByLabel("People in a wave").FillAsync("0");
        var begin = _page.GetByRole(AriaRole.Dialog).GetByRole(AriaRole.Button, new() { Name = "Begin", Exact = true });
        Assert.True(await begin.IsDisabledAsync());
        await _page.GetByLabel("People in a wave").FillAsync("5");
        await RequireAccessibleAsync("roll-out, beginning");
        await begin.ClickAsync();
        // The page goes on by itself, and the person's page tells the edition they are on.
        await Text("1 of 1 done").WaitForAsync(new() { Timeout = 40_000 });
        await RequireAccessibleAsync("roll-out, done");
        await _page.GetByRole(AriaRole.Link, new() { Name = "Wave 1" }).ClickAsync();
        await _page.GetByRole(AriaRole.Link, new() { Name = row.Family }).ClickAsync();
        await Text("on edition ").WaitForAsync();
        await World.OkAsync(
            (await _world.SignInAsync("edda")).PostAsJsonAsync("/api/v1/rulebook/editions", new RulebookBody(_world.Rulebook()))
        );
    }

    [Fact]
    public async Task A_user_is_added_with_a_limit_and_agrees_to_an_edition_after_a_look()
    {
        await SignInAsync("edda", "/service");
        await _page.GetByRole(AriaRole.Button, new() { Name = "Add a user" }).ClickAsync();
        var form = _page.GetByRole(AriaRole.Dialog);
        await form.GetByLabel("User name").FillAsync("silas");
        await form.GetByLabel("Name others see").FillAsync("Silas Wrack");
        await form.GetByLabel("Mail").FillAsync("silas@northmere.example");
        await form.GetByLabel("operator").CheckAsync();
        await form.GetByLabel("engineer").CheckAsync();
        await form.GetByText("everywhere").First.ClickAsync();
        await form.GetByLabel("Reef Point").First.CheckAsync();
        await RequireAccessibleAsync("user form");
        await form.GetByRole(AriaRole.Button, new() { Name = "Add" }).ClickAsync();
        // It gives somebody rights, so that another engineer agrees first.
        await Text("It waits for another engineer").WaitForAsync();
        await Text("silas, a new user, waits").WaitForAsync();
        await Assertions.Expect(_page.GetByRole(AriaRole.Button, new() { Name = "Agree" })).ToHaveCountAsync(0);
        await RequireAccessibleAsync("waiting user");
        await LeaveAsync();
        await SignInAsync("setup", "/service");
        await _page.GetByRole(AriaRole.Button, new() { Name = "Agree" }).ClickAsync();
        await Text("only reefpoint").WaitForAsync();
        await Text("was sent a link").WaitForAsync();
        await RequireAccessibleAsync("users");
        var silas = (await _world.GetAsync<Page<User>>("/api/v1/users", "edda")).Items.Single(u => u.Name == "silas");
        Assert.Equal(
            ("operator engineer", "reefpoint", 1),
            (string.Join(' ', silas.Roles), silas.Reach!["operator"].Sites!.Single(), silas.Reach.Count)
        );

        var edda = await _world.SignInAsync("edda");
        IReadOnlyList<RulebookFileBody> Files(string title) =>
            _world.Rulebook(
                (path, text) =>
                    path == "rulebook.yaml" ? text + "publishing: second-person\n"
                    : path == "targets/directory.yaml" ? text.Replace("title: Dive team", $"title: {title}", StringComparison.Ordinal)
                    : text
            );
        await World.OkAsync(edda.PostAsJsonAsync("/api/v1/rulebook/editions", new RulebookBody(Files("Dive team"))));
        await World.OkAsync(edda.PostAsJsonAsync("/api/v1/rulebook/editions", new RulebookBody(Files("Divers"))));
        // The new user chooses their password by the link of the mail; it works once.
        await LeaveAsync();
        var link = await _world.LinkAsync("silas@northmere.example", "/password/");
        await _page.GotoAsync($"/password/{link}");
        await _page.GetByLabel("New password").FillAsync(World.Password);
        await _page.GetByLabel("The same again").FillAsync("something-else-1");
        await Text("The two are not the same yet").WaitForAsync();
        await RequireAccessibleAsync("password");
        await _page.GetByLabel("The same again").FillAsync(World.Password);
        await _page.GetByRole(AriaRole.Button, new() { Name = "Set it" }).ClickAsync();
        await Text("Your password is set").WaitForAsync();
        await _page.GotoAsync($"/password/{link}");
        await Text("There is no such link").WaitForAsync();
        await SignInAsync("silas", "/rulebook");
        await _page.GetByRole(AriaRole.Button, new() { Name = "Look at it" }).ClickAsync();
        await _page.GetByText("title: Divers").First.WaitForAsync();
        await RequireAccessibleAsync("proposal");
        await _page.GetByRole(AriaRole.Button, new() { Name = "Check and rehearse it here" }).ClickAsync();
        await _page.GetByRole(AriaRole.Link, new() { Name = "Difference (1)" }).WaitForAsync();
        await _page.GetByRole(AriaRole.Button, new() { Name = "Agree and publish" }).ClickAsync();
        await Text("agreed by silas").WaitForAsync();
        await World.OkAsync(edda.PostAsJsonAsync("/api/v1/rulebook/editions", new RulebookBody(_world.Rulebook())));
        var back = (await _world.GetAsync<Page<ProposalView>>("/api/v1/rulebook/proposals", "silas")).Items.Single();
        await World.OkAsync(
            (await _world.SignInAsync("silas")).PostAsJsonAsync($"/api/v1/rulebook/proposals/{back.Id}/approve", new ProposalBody(null))
        );
    }

    [Fact]
    public async Task An_entry_of_the_ledger_is_found_and_proven_in_the_browser()
    {
        var done = await _world.BringAsync(HrRow.New());
        await SignInAsync("aldo", $"/ledger?request={done.Summary.Number}");
        await Text("request.completed").WaitForAsync();
        await RequireAccessibleAsync("ledger");
        await _page.GetByRole(AriaRole.Row).Filter(new() { HasText = "request.approved" }).First.ClickAsync();
        await Text("It is in the record").WaitForAsync();
        await Text("Reckoned in this browser").WaitForAsync();
        await RequireAccessibleAsync("ledger entry");
        await _page.Keyboard.PressAsync("Escape");
        // The whole of it, and against a head that was kept.
        await _page.GetByLabel("A head you kept elsewhere").FillAsync("no head at all");
        await _page.GetByRole(AriaRole.Button, new() { Name = "Verify the whole ledger" }).ClickAsync();
        await Text("That is no signed head").WaitForAsync();
        var head = (await _world.GetAsync<Page<LedgerHead>>("/api/v1/ledger/heads", "aldo")).Items[0];
        await _page.GetByLabel("A head you kept elsewhere").FillAsync(JsonSerializer.Serialize(head, JsonSerializerOptions.Web));
        await _page.GetByRole(AriaRole.Button, new() { Name = "Verify the whole ledger" }).ClickAsync();
        await Text("kept outside the store").WaitForAsync();
        await _page
            .GetByLabel("A head you kept elsewhere")
            .FillAsync(JsonSerializer.Serialize(head with { Root = new string('0', 64) }, JsonSerializerOptions.Web));
        await _page.GetByRole(AriaRole.Button, new() { Name = "Verify the whole ledger" }).ClickAsync();
        await Text("Not sound").WaitForAsync();
        await RequireAccessibleAsync("ledger verified");
    }

    [Fact]
    public async Task A_person_is_held_and_their_data_taken()
    {
        var done = await _world.BringAsync(HrRow.New());
        await SignInAsync("aldo", $"/people/{done.Summary.PersonId}");
        await _page.GetByRole(AriaRole.Button, new() { Name = "Keep it longer" }).ClickAsync();
        await _page.GetByLabel("Reason").FillAsync("A claim is open");
        await _page.GetByLabel("Until").FillAsync("tomorrow");
        await _page.GetByRole(AriaRole.Button, new() { Name = "Keep it", Exact = true }).ClickAsync();
        await _page.GetByRole(AriaRole.Alert).WaitForAsync();
        await _page.GetByLabel("Until").FillAsync(DateTime.UtcNow.AddDays(90).ToString("yyyy-MM-dd", null));
        await _page.GetByRole(AriaRole.Button, new() { Name = "Keep it", Exact = true }).ClickAsync();
        await Text("by aldo: A claim is open").WaitForAsync();
        await RequireAccessibleAsync("person held");
        var download = await _page.RunAndWaitForDownloadAsync(() =>
            _page.GetByRole(AriaRole.Link, new() { Name = "Download all of it" }).ClickAsync()
        );
        Assert.Contains(done.Summary.PersonNumber, await File.ReadAllTextAsync(await download.PathAsync()), StringComparison.Ordinal);
        await _page.GotoAsync("/service");
        await _page.GetByRole(AriaRole.Button, new() { Name = "End the hold" }).ClickAsync();
        await Assertions.Expect(Text("A claim is open")).ToHaveCountAsync(0);
        await RequireAccessibleAsync("retention");
    }

    [Fact]
    public async Task A_held_run_is_let_pass_and_a_vanished_record_decided()
    {
        var rows = Enumerable.Range(0, 23).Select(_ => HrRow.New()).ToList();
        _world.WriteHr(rows);
        await _world.BaselineAsync();
        _world.WriteHr(rows.Skip(1).Select((r, i) => i < 21 ? r with { End = "2026-11-20" } : r));
        await _world.RunIntakeAsync();
        await SignInAsync("edda", "/sources");
        await Text("Under the brake").WaitForAsync();
        await RequireAccessibleAsync("sources");
        await _page.GetByRole(AriaRole.Link, new() { Name = "HR export" }).ClickAsync();
        await Text("21 leavers of").WaitForAsync();
        await RequireAccessibleAsync("source");
        await _page.GetByRole(AriaRole.Button, new() { Name = "Preview the mapping" }).ClickAsync();
        await Text("records are sound").WaitForAsync();
        await _page.GetByRole(AriaRole.Button, new() { Name = "Let it pass" }).ClickAsync();
        await _page.GetByRole(AriaRole.Dialog).GetByRole(AriaRole.Button, new() { Name = "Let it pass" }).ClickAsync();
        await Text("Vanished records").WaitForAsync();
        var entry = _page.GetByRole(AriaRole.Listitem).Filter(new() { HasText = rows[0].Number });
        await entry.GetByRole(AriaRole.Button, new() { Name = "Stays" }).ClickAsync();
        await entry.WaitForAsync(new() { State = WaitForSelectorState.Detached });
        Assert.Equal(21, (await _world.GetAsync<Page<IntakeRun>>("/api/v1/sources/hr/runs", "edda")).Items[0].Counts.Leavers);
    }

    [Fact]
    public async Task A_grant_explains_itself_and_what_is_absent_too()
    {
        var row = HrRow.New();
        await _world.BringAsync(row);
        var id = (await _world.GetAsync<PersonDetail>($"/api/v1/people/{row.Number}")).Id;
        await SignInAsync("ines", $"/people/{id}");
        await _page.GetByRole(AriaRole.Button, new() { Name = "Why? Dive team" }).ClickAsync();
        await Text("dive-team gives it").WaitForAsync();
        await Text("where department is “Dive Team”").WaitForAsync();
        await RequireAccessibleAsync("explanation");
        await _page.GetByRole(AriaRole.Button, new() { Name = "Close" }).ClickAsync();
        await _page.GetByRole(AriaRole.Button, new() { Name = $"Why not something else? {row.Given} {row.Family}" }).ClickAsync();
        await _page.GetByLabel("Account or entitlement").SelectOptionAsync("directory/research-lab");
        await Text("research would give it").WaitForAsync();
    }
}
