using System.Net.Http.Json;
using Oikonom.Contracts;
using Oikonom.Testing;
using Xunit;

namespace Oikonom.Service.Tests;

/// <summary>Drafts are checked, rehearsed against everybody, compared, proposed and published.</summary>
public sealed class RulebookTests(Servers servers)
{
    private static async Task<T> PostAsync<T>(World world, string path, object? body, string actor = "edda") =>
        (
            await (
                await World.OkAsync((await world.SignInAsync(actor)).PostAsJsonAsync(path, body ?? new { }))
            ).Content.ReadFromJsonAsync<T>()
        )!;

    private static IReadOnlyList<RulebookFileBody> With(World world, string path, string old, string fresh) =>
        world.Rulebook((p, text) => p == path ? text.Replace(old, fresh, StringComparison.Ordinal) : text);

    [Theory]
    [InlineData("sqlite")]
    [InlineData("postgres")]
    public async Task A_rehearsal_tells_who_gains_and_loses_and_touches_nothing(string engine)
    {
        await using var world = await World.StartAsync(servers.Directory, await servers.OnAsync(engine));
        var (diver, keeper, office) = (
            HrRow.New(),
            HrRow.New() with
            {
                Department = "Animal Care",
            },
            HrRow.New() with
            {
                Department = "Office",
            }
        );
        world.WriteHr(diver, keeper, office);
        await world.RunIntakeAsync("baseline", actor: "edda");
        var before = (await world.GetAsync<Page<LedgerEntryView>>("/api/v1/ledger?limit=200", "aldo")).Items.Select(e => e.Id).ToHashSet();
        var draft = With(world, "templates/dive-team.yaml", "department == \"Dive Team\"", "department == \"Animal Care\"");
        var r = await PostAsync<RehearsalView>(world, "/api/v1/rulebook/rehearsals", new RehearseBody(draft, null, null));
        Assert.Equal((3, 2, 1, 0, "edition 1"), (r.People, r.Changed, r.Unchanged, r.Failing, r.Against));
        Assert.Equal(new TallyView("directory/dive-team", 2, 1, 1, 0), r.ByEntitlement.Single());
        Assert.Equal(["gains directory/dive-team"], r.Affected.Single(a => a.Number == keeper.Number).Effects.Select(e => e.Text));

        // With a file of HR records: one is new, one changed, one of no known site.
        var fresh = HrRow.New() with
        {
            Number = "N1",
            Person = "PN1",
        };
        var hr = string.Join('\n', HrRow.Header, diver with { Title = "Dive master" }, fresh, HrRow.New() with { Site = "nowhere" });
        var with = await PostAsync<RehearsalView>(world, "/api/v1/rulebook/rehearsals", new RehearseBody(world.Rulebook(), "hr", hr));
        Assert.Equal((4, 2, 1), (with.People, with.Changed, with.SetAside));
        Assert.Contains(with.Affected.Single(a => a.Number == "N1").Effects, e => e.Kind == "account-gained");
        Assert.Equal(["title"], with.Affected.Single(a => a.Number == diver.Number).Effects.Single().Attributes.Select(a => a.Name));
        var people = await world.GetAsync<Page<AffectedView>>(
            $"/api/v1/rulebook/rehearsals/{with.Id}/people?target=directory/dive-team",
            "edda"
        );
        Assert.Equal(["N1"], people.Items.Select(p => p.Number));
        Assert.Contains(
            "account-gained",
            await (
                await (await world.SignInAsync("edda")).GetAsync($"/api/v1/rulebook/rehearsals/{with.Id}/people.csv")
            ).Content.ReadAsStringAsync(),
            StringComparison.Ordinal
        );

        Assert.Equal(3, (await world.GetAsync<Page<PersonSummary>>("/api/v1/people")).Items.Count);
        Assert.Empty((await world.GetAsync<Page<RequestSummary>>("/api/v1/requests")).Items);
        // Signing in is all that was written down meanwhile.
        Assert.All(
            (await world.GetAsync<Page<LedgerEntryView>>("/api/v1/ledger?limit=200", "aldo")).Items.Where(e => !before.Contains(e.Id)),
            e => Assert.Matches("^(sign-in|token|ledger)", e.Kind)
        );
        Assert.Equal(
            422,
            (
                await World.RefusedAsync(
                    (await world.SignInAsync("edda")).PostAsJsonAsync(
                        "/api/v1/rulebook/rehearsals",
                        new RehearseBody([new("rulebook.yaml", "x: 1")], null, null)
                    )
                )
            ).Status
        );
    }

    [Fact]
    public async Task A_check_warns_with_what_only_people_and_users_can_tell()
    {
        await using var world = await World.StartAsync(servers.Directory);
        world.WriteHr(HrRow.New());
        await world.RunIntakeAsync("baseline", actor: "edda");
        var check = await PostAsync<RulebookCheck>(world, "/api/v1/rulebook/check", new RulebookBody(world.Rulebook()));
        Assert.True(check.Sound);
        Assert.Equal(
            ["animal-care", "research", "ticket-desk"],
            check.Warnings.Where(w => w.Code == "nobody-matches").Select(w => w.Message.Split('\'')[1]).Order()
        );
        Assert.All(check.Warnings, w => Assert.True(w.Mend.Length > 0 && w.Line > 0));
        // The directory is asked for its attributes, and people for their numbers.
        Assert.DoesNotContain(check.Warnings, w => w.Code is "unknown-attribute" or "unknown-class" or "not-compared");
        var slip = await PostAsync<RulebookCheck>(
            world,
            "/api/v1/rulebook/check",
            new RulebookBody(
                world.Rulebook(
                    (path, text) =>
                        path == "templates/everyone.yaml" ? text.Replace("      l: site", "      lokality: site", StringComparison.Ordinal)
                        : path == "targets/directory.yaml" ? text.Replace("owner: E1003", "owner: E9999", StringComparison.Ordinal)
                        : text
                )
            )
        );
        var attribute = slip.Warnings.Single(w => w.Code == "unknown-attribute");
        Assert.Equal("templates/everyone.yaml", attribute.File);
        Assert.Contains("'lokality'", attribute.Message, StringComparison.Ordinal);
        Assert.Contains(slip.Warnings, w => w.Code == "unknown-person" && w.Message.Contains("E9999", StringComparison.Ordinal));
        Assert.DoesNotContain(
            (await PostAsync<RulebookCheck>(world, "/api/v1/rulebook/check", new RulebookBody(world.Rulebook(), true))).Warnings,
            w => w.Code == "nobody-matches"
        );
        Assert.Contains(
            (await world.GetAsync<Page<WarningView>>("/api/v1/rulebook/warnings", "aldo")).Items,
            w => w.Code == "nobody-matches"
        );
    }

    [Fact]
    public async Task A_second_person_agrees_before_an_edition_counts_and_changed_requests_are_planned_anew()
    {
        await using var world = await World.StartAsync(servers.Directory);
        var setup = await world.SignInAsync("setup");
        Assert.Equal(
            2,
            (
                await PostAsync<Published>(
                    world,
                    "/api/v1/rulebook/editions",
                    new RulebookBody(With(world, "rulebook.yaml", "mandatory:", "publishing: second-person\nmandatory:"))
                )
            )
                .Edition!
                .Number
        );
        var request = await world.BringAsync(HrRow.New(), "releasing");
        var other = HrRow.New() with { Department = "Office" };
        world.WriteHr(other);
        var untouched = await world.WaitForAsync((await world.RunIntakeAsync()).Requests.Single().Id, "deciding");
        var draft = world.Rulebook(
            (p, text) =>
                p == "rulebook.yaml" ? text.Replace("mandatory:", "publishing: second-person\nmandatory:", StringComparison.Ordinal)
                : p == "templates/dive-team.yaml" ? text + "  - to: directory/research-lab\n"
                : text
        );
        var rehearsal = await PostAsync<RehearsalView>(world, "/api/v1/rulebook/rehearsals", new RehearseBody(draft, null, null));
        Assert.Equal([request.Summary.Number], rehearsal.OpenRequests.Select(o => o.Number));

        var proposed = await PostAsync<Published>(world, "/api/v1/rulebook/editions", new RulebookBody(draft));
        Assert.Null(proposed.Edition);
        Assert.Equal(
            "own-proposal",
            (
                await World.RefusedAsync(
                    (await world.SignInAsync("edda")).PostAsJsonAsync(
                        $"/api/v1/rulebook/proposals/{proposed.Proposal!.Id}/approve",
                        new ProposalBody(null)
                    )
                )
            ).Code
        );
        Assert.Equal(
            400,
            (
                await World.RefusedAsync(
                    setup.PostAsJsonAsync($"/api/v1/rulebook/proposals/{proposed.Proposal.Id}/decline", new ProposalBody(""))
                )
            ).Status
        );
        Assert.True((await world.GetAsync<Page<ProposalView>>("/api/v1/rulebook/proposals", "setup")).Items.Single().MayDecide);

        // It is looked at before it is agreed to: the files themselves, and the difference to what counts.
        var look = await world.GetAsync<ProposalDetail>($"/api/v1/rulebook/proposals/{proposed.Proposal.Id}", "setup");
        Assert.Equal((2, draft.Count, proposed.Proposal.Digest), (look.Proposal.Base, look.Files.Count, look.Proposal.Digest));
        var change = (
            await world.GetAsync<RulebookDiff>($"/api/v1/rulebook/diff?from=current&to={proposed.Proposal.Id}", "aldo")
        ).Files.Single();
        Assert.Equal(("templates/dive-team.yaml", 1, 0), (change.Path, change.Added, change.Removed));
        Assert.Equal(404, (await World.RefusedAsync(setup.GetAsync($"/api/v1/rulebook/proposals/{Guid.NewGuid()}"))).Status);
        Assert.Equal(404, (await World.RefusedAsync(setup.GetAsync($"/api/v1/rulebook/diff?from=current&to={Guid.NewGuid()}"))).Status);

        // Two proposals over the same edition: agreeing to the second would take back the first.
        var late = await PostAsync<Published>(
            world,
            "/api/v1/rulebook/editions",
            new RulebookBody([
                .. draft.Select(f =>
                    f.Path == "targets/directory.yaml"
                        ? f with
                        {
                            Text = f.Text.Replace("title: Dive team", "title: Divers", StringComparison.Ordinal),
                        }
                        : f
                ),
            ])
        );
        var published = await PostAsync<Published>(
            world,
            $"/api/v1/rulebook/proposals/{proposed.Proposal.Id}/approve",
            new ProposalBody(null),
            "setup"
        );
        var stale = await World.RefusedAsync(
            setup.PostAsJsonAsync($"/api/v1/rulebook/proposals/{late.Proposal!.Id}/approve", new ProposalBody(null))
        );
        Assert.Equal((409, "published-meanwhile"), (stale.Status, stale.Code));
        Assert.Contains("over edition 2, and edition 3", stale.Detail, StringComparison.Ordinal);
        await World.OkAsync(
            setup.PostAsJsonAsync($"/api/v1/rulebook/proposals/{late.Proposal.Id}/decline", new ProposalBody("anew, please"))
        );
        Assert.Equal((3, "edda", "setup"), (published.Edition!.Number, published.Edition.Author, published.Edition.Approver));
        Assert.Equal([request.Summary.Id], published.Replanned.Select(r => r.Id));

        // What was approved is not what would run now: it is decided anew, with the new plan.
        var anew = await world.WaitForAsync(request.Summary.Id, "deciding");
        Assert.Equal(3, anew.Edition);
        Assert.NotEqual(request.PlanDigest, anew.PlanDigest);
        Assert.Contains(anew.Plan, c => c.Subject == "research-lab");
        Assert.Equal(
            (untouched.PlanDigest, 2),
            ((await world.RequestAsync(untouched.Summary.Id)).PlanDigest, (await world.RequestAsync(untouched.Summary.Id)).Edition)
        );

        var diff = await world.GetAsync<RulebookDiff>("/api/v1/rulebook/diff?from=2&to=3", "aldo");
        var file = diff.Files.Single();
        Assert.Equal(("templates/dive-team.yaml", "changed", 1, 0), (file.Path, file.Change, file.Added, file.Removed));
        Assert.Equal("  - to: directory/research-lab", file.Lines.Single(l => l.Op == "new").Text);
    }

    [Fact]
    public async Task An_explanation_gives_the_rule_and_the_values_or_the_condition_that_failed()
    {
        await using var world = await World.StartAsync(servers.Directory);
        var row = HrRow.New() with { Kind = "volunteer" };
        await world.BringAsync(row);
        var no = (
            await world.GetAsync<PersonExplanation>($"/api/v1/people/{row.Number}/explain?of=directory/dive-team", "ines")
        ).Explanations.Single();
        Assert.Equal((false, false), (no.Wanted, no.Held));
        Assert.Contains("kind in [\"employee\", \"researcher\"] (where kind is 'volunteer')", no.Summary, StringComparison.Ordinal);
        var all = (await world.GetAsync<PersonExplanation>($"/api/v1/people/{row.Number}/explain")).Explanations;
        Assert.All(all, e => Assert.Equal(e.Wanted, e.Held));
        Assert.Contains(all, e => e is { Key: "directory/all-people", Wanted: true });
        Assert.Equal(
            404,
            (
                await World.RefusedAsync(
                    (await world.SignInAsync("ines")).GetAsync($"/api/v1/people/{row.Number}/explain?of=directory/dive-taem")
                )
            ).Status
        );
    }

    [Theory]
    [InlineData("sqlite")]
    [InlineData("postgres")]
    public async Task Numbers_are_given_once_released_on_decline_and_an_empty_pool_stops_clearly(string engine)
    {
        await using var world = await World.StartAsync(servers.Directory, await servers.OnAsync(engine));
        await World.OkAsync(
            (await world.SignInAsync("edda")).PostAsJsonAsync(
                "/api/v1/rulebook/editions",
                new RulebookBody(With(world, "pools/till.yaml", "harbour: 1-40", "harbour: 1-3"))
            )
        );
        await using var second = engine == "postgres" ? await world.JoinAsync() : null;
        var rows = Enumerable.Range(0, 4).Select(_ => HrRow.New() with { Department = "Visitor Services" }).ToList();
        world.WriteHr(rows);
        var raised = (await world.RunIntakeAsync()).Requests;
        var requests = await world.EventuallyAsync(
            async () => (await Task.WhenAll(raised.Select(r => world.RequestAsync(r.Id)))).ToList(),
            all => all.Count(r => r.Summary.State == "deciding") == 3 && all.Exists(r => r.Summary.Problem is not null)
        );
        static string Till(RequestDetail r) => r.Plan.SelectMany(c => c.Attributes).Single(a => a.Name == "roomNumber").After.Single();
        Assert.Equal(["Till 1", "Till 2", "Till 3"], requests.Where(r => r.Summary.State == "deciding").Select(Till).Order());
        var waits = requests.Single(r => r.Summary.State == "planning");
        Assert.Contains("no number left for harbour (1-3)", waits.Summary.Problem, StringComparison.Ordinal);
        var freed = requests.First(r => r.Summary.State == "deciding");
        await World.OkAsync(
            (await world.SignInAsync("mara")).PostAsJsonAsync($"/api/v1/requests/{freed.Summary.Id}/decline", new DeclineBody("not needed"))
        );
        // It tries again by itself too; whichever comes first.
        using var retried = await (await world.SignInAsync("otto")).PostAsJsonAsync($"/api/v1/requests/{waits.Summary.Id}/retry", new { });
        Assert.True(retried.IsSuccessStatusCode || retried.StatusCode == System.Net.HttpStatusCode.Conflict, $"{retried.StatusCode}");
        Assert.Equal(Till(freed), Till(await world.WaitForAsync(waits.Summary.Id, "deciding")));
    }

    [Fact]
    public async Task Who_would_break_a_separation_or_the_most_holders_is_not_planned_and_the_reason_told()
    {
        await using var world = await World.StartAsync(servers.Directory);
        await World.OkAsync(
            (await world.SignInAsync("edda")).PostAsJsonAsync(
                "/api/v1/rulebook/editions",
                new RulebookBody([
                    .. world.Rulebook(
                        (p, text) =>
                            p switch
                            {
                                "targets/directory.yaml" => text.Replace(
                                    "owner: E1003 }",
                                    "owner: E1003, kind: licence, most-holders: 1 }",
                                    StringComparison.Ordinal
                                ),
                                "templates/research.yaml" => text + "  - to: directory/ticket-desk\n    when: title == \"Cashier\"\n",
                                _ => text,
                            }
                    ),
                ])
            )
        );
        async Task<string> ProblemAsync(HrRow row)
        {
            world.WriteHr(row);
            var id = (await world.RunIntakeAsync()).Requests.Single(r => r.Number == row.Number).Id;
            var request = await world.EventuallyAsync(() => world.RequestAsync(id), r => r.Summary.Problem is not null);
            // No target is away: somebody has to mend what stops it, and list and page say the same.
            Assert.Equal(
                ("whoever can mend what stops it", "whoever can mend what stops it"),
                (request.Summary.WaitsOn, request.Story.WaitsOn)
            );
            return request.Summary.Problem!;
        }
        Assert.Contains(
            "Who sells tickets has no key to the laboratory",
            await ProblemAsync(HrRow.New() with { Department = "Research", Title = "Cashier" }),
            StringComparison.Ordinal
        );
        var holder = HrRow.New();
        await world.BringAsync(holder);
        Assert.Contains("is held by 1, and 1 are the most: no licence is left", await ProblemAsync(HrRow.New()), StringComparison.Ordinal);
        var held = await world.GetAsync<Holders>("/api/v1/targets/directory/entitlements/dive-team/holders");
        Assert.Equal((1, 1, holder.Number, false), (held.Count, held.Most, held.Items.Single().Number, held.Items[0].CouldGiveUp));
        // Whoever is limited to a site sees who holds it there.
        foreach (var (user, site, sees) in new[] { ("near", "harbour", 1), ("far", "reefpoint", 0) })
        {
            await world.SaveUserAsync(
                user,
                new(
                    user,
                    $"{user}@northmere.example",
                    ["operator"],
                    "",
                    true,
                    new Dictionary<string, ReachBody> { ["operator"] = new([site]) }
                )
            );
            var seen = await world.GetAsync<Holders>("/api/v1/targets/directory/entitlements/dive-team/holders", user);
            Assert.Equal(sees, seen.Items.Count);
        }
        Assert.Equal(
            404,
            (int)(await (await world.SignInAsync("otto")).GetAsync("/api/v1/targets/directory/entitlements/nothing/holders")).StatusCode
        );
    }

    [Fact]
    public async Task The_last_licence_that_went_to_somebody_else_is_told_before_it_is_approved()
    {
        await using var world = await World.StartAsync(servers.Directory);
        await TrustApprovalTests.PublishAsync(
            world,
            (path, text) =>
                path == "targets/directory.yaml"
                    ? text.Replace("title: Payments,", "title: Payments, kind: licence, most-holders: 1,", StringComparison.Ordinal)
                    : text
        );
        var (first, second) = (HrRow.New("Ada"), HrRow.New("Bo"));
        foreach (var row in new[] { first, second })
            await world.BringAsync(row);
        var until = DateTime.UtcNow.AddDays(20).ToString("yyyy-MM-dd", System.Globalization.CultureInfo.InvariantCulture);
        async Task<RequestDetail> AskAsync(HrRow row, string? end) =>
            await world.WaitForAsync(
                (
                    await ApprovalTests.RaiseAsync(
                        world,
                        new("access", row.Number, "month end", Grants: [new("directory/payments", null, end)])
                    )
                )
                    .Summary
                    .Id,
                "deciding"
            );
        // Both are planned while there is one left.
        var (one, two) = (await AskAsync(first, until), await AskAsync(second, null));
        Assert.Empty(two.NoneLeft);
        one = await ApprovalTests.ApproveAsync(world, one, "mara");
        await ApprovalTests.ApproveAsync(world, one, "tomas");
        await world.WaitForAsync(one.Summary.Id, "completed");
        two = await world.RequestAsync(two.Summary.Id);
        Assert.Contains("no licence is left. 1 has it until a day", two.NoneLeft.Single(), StringComparison.Ordinal);
        var refused = await World.RefusedAsync(
            (await world.SignInAsync("mara")).PostAsJsonAsync(
                $"/api/v1/requests/{two.Summary.Id}/approve",
                new ApproveBody(two.PlanDigest!, null)
            )
        );
        Assert.Equal((409, "none-left"), (refused.Status, refused.Code));
        var held = await world.GetAsync<Holders>("/api/v1/targets/directory/entitlements/payments/holders");
        Assert.Equal((first.Number, true), (held.Items.Single().Number, held.Items[0].CouldGiveUp));
        Assert.NotNull(held.Items[0].Until);
    }

    [Fact]
    public async Task Of_two_that_were_approved_for_the_last_one_the_second_is_told_and_given_nothing()
    {
        await using var world = await World.StartAsync(servers.Directory);
        await TrustApprovalTests.PublishAsync(
            world,
            (path, text) =>
                path == "targets/directory.yaml"
                    ? text.Replace("title: Payments,", "title: Payments, most-holders: 1,", StringComparison.Ordinal)
                    : text
        );
        var (first, second) = (HrRow.New("Ada"), HrRow.New("Bo"));
        foreach (var row in new[] { first, second })
            await world.BringAsync(row);
        var otto = await world.SignInAsync("otto");
        await World.OkAsync(otto.PostAsJsonAsync("/api/v1/targets/directory/pause", new PauseBody("moved")));
        var ids = new List<string>();
        foreach (var row in new[] { first, second })
        {
            var grants = new[] { new GrantWish("directory/payments") };
            var asked = await ApprovalTests.RaiseAsync(world, new("access", row.Number, "month end", Grants: grants));
            var deciding = await world.WaitForAsync(asked.Summary.Id, "deciding");
            await ApprovalTests.ApproveAsync(world, await ApprovalTests.ApproveAsync(world, deciding, "mara"), "tomas");
            ids.Add(asked.Summary.Id);
        }
        await World.OkAsync(otto.PostAsJsonAsync("/api/v1/targets/directory/run", new RunNowBody(first.Number)));
        await world.WaitForAsync(ids[0], "completed");
        await World.OkAsync(otto.PostAsJsonAsync("/api/v1/targets/directory/resume", new { }));
        var stuck = await world.EventuallyAsync(() => world.RequestAsync(ids[1]), r => r.Summary.Problem is not null);
        Assert.Contains("'Payments' is held by 1, and 1 are the most", stuck.Summary.Problem, StringComparison.Ordinal);
        Assert.Equal(1, (await world.GetAsync<Holders>("/api/v1/targets/directory/entitlements/payments/holders")).Count);
    }

    [Fact]
    public async Task A_separation_that_asks_adds_its_approver_as_a_last_stage()
    {
        await using var world = await World.StartAsync(servers.Directory);
        await World.OkAsync(
            (await world.SignInAsync("edda")).PostAsJsonAsync(
                "/api/v1/rulebook/editions",
                new RulebookBody([
                    .. world.Rulebook(
                        (p, text) =>
                            p switch
                            {
                                "separations/tickets-and-research.yaml" => text.Replace(
                                    "then: block",
                                    "then: decide\ndecides: person:E9003",
                                    StringComparison.Ordinal
                                ),
                                "templates/research.yaml" => text + "  - to: directory/ticket-desk\n",
                                _ => text,
                            }
                    ),
                ])
            )
        );
        var request = await world.BringAsync(HrRow.New() with { Department = "Research" }, "deciding");
        Assert.Contains("“Who sells tickets has no key to the laboratory” decides", request.Story.Next, StringComparison.Ordinal);
        await world.ApproveAsync(request);
        var second = await world.RequestAsync(request.Summary.Id);
        Assert.Equal(("deciding", "tomas"), (second.Summary.State, second.Summary.WaitsOn));
        await world.ApproveAsync(second, "tomas");
        Assert.Equal("releasing", (await world.RequestAsync(request.Summary.Id)).Summary.State);
    }
}
