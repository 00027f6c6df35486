using System.Net;
using System.Net.Http.Json;
using Microsoft.Data.Sqlite;
using Oikonom.Contracts;
using Oikonom.Testing;
using Xunit;

namespace Oikonom.Service.Tests;

/// <summary>What people keep for themselves, how they hear, and what they take away as a file.</summary>
public sealed class KeepingTests(Servers servers)
{
    [Fact]
    public async Task Gathered_mails_go_out_as_one_and_the_inbox_has_each_at_once()
    {
        await using var world = await World.StartAsync(servers.Directory, new() { MovesClock = true });
        // Nobody is reminded and nothing is late, whatever hour of the day it is.
        await TrustApprovalTests.PublishAsync(
            world,
            (path, text) =>
                path == "workflows/staff.yaml"
                    ? text.Replace(
                        "    deadline: PT16H\n    remind: PT8H\n    escalate: [manager-of-manager, site-lead]\n",
                        "",
                        StringComparison.Ordinal
                    )
                    : text
        );
        var mara = await world.SignInAsync("mara");
        Assert.Equal(new(true, "none", null, null, "UTC"), await world.GetAsync<HearingBody>("/api/v1/me/hearing", "mara"));
        foreach (
            var (body, field) in new[]
            {
                (new HearingBody(true, "weekly", null, null), "digest"),
                (new(true, "day", 7, null), "quietFrom"),
                (new(true, "day", 7, 24), "quietFrom"),
                (new(true, "day", null, null, "Mars/Olympus"), "zone"),
                (new(true, "day", null, null, "../../etc/passwd"), "zone"),
            }
        )
        {
            var refused = await mara.PutAsJsonAsync("/api/v1/me/hearing", body);
            Assert.Equal(HttpStatusCode.BadRequest, refused.StatusCode);
            Assert.Contains(field, await refused.Content.ReadAsStringAsync(), StringComparison.Ordinal);
        }
        await World.OkAsync(mara.PutAsJsonAsync("/api/v1/me/hearing", new HearingBody(true, "day", null, null, "Atlantic/Azores")));
        Assert.Equal("Atlantic/Azores", (await world.GetAsync<HearingBody>("/api/v1/me/hearing", "mara")).Zone);

        HrRow[] rows = [HrRow.New(), HrRow.New(), HrRow.New()];
        world.WriteHr(rows);
        foreach (var raised in (await world.RunIntakeAsync()).Requests)
            await world.WaitForAsync(raised.Id, "deciding");
        var notices = (await world.GetAsync<Page<NoticeView>>("/api/v1/notices", "mara")).Items;
        Assert.Equal(3, notices.Count(n => n is { Event: "decide", MailState: "waits", Read: false }));
        // Others hear at once; by then the loop has looked at hers, too.
        async Task ToTomasAsync()
        {
            var before = world.Mail!.Mails.Count(IsTomas);
            world.WriteHr([.. rows, HrRow.New() with { Manager = "E9003" }]);
            await world.RunIntakeAsync();
            await world.EventuallyAsync(() => Task.FromResult(world.Mail!.Mails.Count(IsTomas)), count => count > before);
            static bool IsTomas(Standins.Mail.ReceivedMail m) => m.To.Contains("tomas@", StringComparison.Ordinal);
        }
        await ToTomasAsync();
        Assert.DoesNotContain(world.Mail!.Mails, m => m.To.Contains("mara@", StringComparison.Ordinal));

        // Morning comes.
        world.MoveClock(TimeSpan.FromDays(1));
        var mails = await world.EventuallyAsync(
            () => Task.FromResult(world.Mail.Mails.Where(m => m.To.Contains("mara@", StringComparison.Ordinal)).ToList()),
            m => m.Count > 0
        );
        var mail = Assert.Single(mails);
        Assert.StartsWith("3 notices: ", mail.Subject, StringComparison.Ordinal);
        Assert.All(rows, row => Assert.Contains(row.Family, mail.Body, StringComparison.Ordinal));
        await ToTomasAsync();
        Assert.Single(world.Mail.Mails, m => m.To.Contains("mara@", StringComparison.Ordinal));

        await World.OkAsync(mara.PostAsync("/api/v1/notices/read", null));
        Assert.All(
            (await world.GetAsync<Page<NoticeView>>("/api/v1/notices", "mara")).Items,
            n => Assert.True(n is { Read: true, MailState: "sent" })
        );
    }

    [Fact]
    public async Task Texts_of_notices_are_looked_at_with_examples_and_sent_to_oneself()
    {
        await using var world = await World.StartAsync(servers.Directory);
        var edda = await world.SignInAsync("edda");
        var texts = (await world.GetAsync<Page<NoticeTemplate>>("/api/v1/notices/templates", "edda")).Items;
        Assert.Contains(texts, t => t is { Event: "welcome", BuiltIn: false });
        Assert.Contains(texts, t => t is { Event: "decide", BuiltIn: true });
        foreach (var text in texts)
        {
            var shown = await (
                await World.OkAsync(edda.PostAsJsonAsync("/api/v1/notices/preview", new NoticePreviewBody(text.Event)))
            ).Content.ReadFromJsonAsync<NoticePreview>();
            Assert.DoesNotContain("{{", shown!.Subject + shown.Text + shown.Html, StringComparison.Ordinal);
            Assert.False(shown.Sent);
        }
        var hostile = await (
            await World.OkAsync(
                edda.PostAsJsonAsync(
                    "/api/v1/notices/preview",
                    new NoticePreviewBody(
                        "decide",
                        "A\r\nBcc: all@northmere.example",
                        "<script>alert(1)</script>\n\n- {{person}}\n- two",
                        true
                    )
                )
            )
        ).Content.ReadFromJsonAsync<NoticePreview>();
        Assert.DoesNotContain("<script>", hostile!.Html, StringComparison.Ordinal);
        Assert.Contains("<li>Tor Quill</li>", hostile.Html, StringComparison.Ordinal);
        Assert.True(hostile.Sent);
        var mail = await world.EventuallyAsync(
            () => Task.FromResult(world.Mail!.Mails.FirstOrDefault(m => m.Subject.StartsWith("[test] ", StringComparison.Ordinal))),
            m => m is not null
        );
        Assert.Equal(("edda@northmere.example", "[test] A Bcc: all@northmere.example"), (mail!.To, mail.Subject));
        Assert.Equal((400, true), await Refused(new("unknown")));
        Assert.Equal((400, true), await Refused(new("decide", Text: "{{password}}")));

        async Task<(int, bool)> Refused(NoticePreviewBody body)
        {
            var (status, _, detail) = await World.RefusedAsync(edda.PostAsJsonAsync("/api/v1/notices/preview", body));
            return (status, detail.Contains("known are", StringComparison.Ordinal));
        }
    }

    [Fact]
    public async Task Drafts_and_views_are_their_owners_alone()
    {
        await using var world = await World.StartAsync(servers.Directory, new() { Mail = false });
        var (ines, edda) = (await world.SignInAsync("ines"), await world.SignInAsync("edda"));
        var id = Guid.CreateVersion7();
        var body = new NewRequest("access", "E1020", "month end", Grants: [new("directory/payments", null, "2034-01-31")]);
        await World.OkAsync(ines.PutAsJsonAsync($"/api/v1/drafts/{id}", new DraftBody("payments", body)));
        await World.OkAsync(ines.PutAsJsonAsync($"/api/v1/drafts/{id}", new DraftBody("payments for Ada", body with { Reason = "audit" })));
        var kept = Assert.Single((await world.GetAsync<Page<Draft>>("/api/v1/drafts", "ines")).Items);
        Assert.Equal(
            ("payments for Ada", "audit", "directory/payments"),
            (kept.Title, kept.Body.Reason, kept.Body.Grants!.Single().Entitlement)
        );
        Assert.Empty((await world.GetAsync<Page<Draft>>("/api/v1/drafts", "edda")).Items);
        Assert.Equal(404, (await World.RefusedAsync(edda.PutAsJsonAsync($"/api/v1/drafts/{id}", new DraftBody("mine now", body)))).Status);
        await World.OkAsync(edda.DeleteAsync($"/api/v1/drafts/{id}"));
        Assert.Single((await world.GetAsync<Page<Draft>>("/api/v1/drafts", "ines")).Items);
        Assert.Equal(400, (await World.RefusedAsync(ines.PutAsJsonAsync("/api/v1/drafts/one", new DraftBody("x", body)))).Status);
        Assert.Equal(400, (await World.RefusedAsync(ines.PutAsJsonAsync($"/api/v1/drafts/{id}", new DraftBody("", body)))).Status);
        Assert.Equal(
            400,
            (
                await World.RefusedAsync(
                    ines.PutAsJsonAsync($"/api/v1/drafts/{id}", new DraftBody("x", body with { Reason = new string('x', 100_000) }))
                )
            ).Status
        );
        await World.OkAsync(ines.DeleteAsync($"/api/v1/drafts/{id}"));
        Assert.Empty((await world.GetAsync<Page<Draft>>("/api/v1/drafts", "ines")).Items);

        await World.OkAsync(ines.PutAsJsonAsync("/api/v1/views/late%20%26%20mine", new SavedViewBody("late=true&requester=ines")));
        await World.OkAsync(ines.PutAsJsonAsync("/api/v1/views/late%20%26%20mine", new SavedViewBody("late=true")));
        Assert.Equal(
            ("late & mine", "late=true"),
            (await world.GetAsync<Page<SavedView>>("/api/v1/views", "ines")).Items.Select(v => (v.Name, v.Query)).Single()
        );
        Assert.Empty((await world.GetAsync<Page<SavedView>>("/api/v1/views", "otto")).Items);
        Assert.Equal(
            400,
            (await World.RefusedAsync(ines.PutAsJsonAsync("/api/v1/views/long", new SavedViewBody(new string('q', 1001))))).Status
        );
        await World.OkAsync(ines.DeleteAsync("/api/v1/views/late%20%26%20mine"));
        Assert.Empty((await world.GetAsync<Page<SavedView>>("/api/v1/views", "ines")).Items);
    }

    [Fact]
    public async Task Lists_counts_and_files_agree_and_a_file_runs_nothing()
    {
        await using var world = await World.StartAsync(servers.Directory, new() { Mail = false });
        HrRow[] rows =
        [
            HrRow.New() with
            {
                Given = "=1+1",
                Family = "Hyper,\"link",
            },
            HrRow.New(),
            HrRow.New() with
            {
                Department = "Animal Care",
                Kind = "volunteer",
            },
        ];
        world.WriteHr(rows);
        var raised = (await world.RunIntakeAsync()).Requests;
        foreach (var one in raised)
            await world.WaitForAsync(one.Id, "deciding");
        await world.ApproveAsync(await world.RequestAsync(raised[1].Id));

        var counts = await world.GetAsync<RequestCounts>("/api/v1/requests/counts");
        Assert.Equal((2, 1, 3), (counts.States["deciding"], counts.States["releasing"], counts.Kinds["joiner"]));
        Assert.Equal(2, (await world.GetAsync<InboxCount>("/api/v1/inbox/count", "mara")).Count);
        Assert.Equal(2, (await world.GetAsync<Page<RequestSummary>>("/api/v1/inbox", "mara")).Items.Count);
        Assert.Equal(1, (await world.GetAsync<InboxCount>("/api/v1/inbox/count", "otto")).Count);
        Assert.Equal(0, (await world.GetAsync<InboxCount>("/api/v1/inbox/count", "aldo")).Count);

        var aldo = await world.SignInAsync("aldo");
        var all = Lines(await aldo.GetStringAsync("/api/v1/requests/export"));
        Assert.Equal(4, all.Length);
        Assert.StartsWith("number,kind,state,person,employee_number", all[0].TrimStart('\uFEFF'), StringComparison.Ordinal);
        var hostile = Assert.Single(all, l => l.Contains("Hyper", StringComparison.Ordinal));
        Assert.Contains("\"'=1+1 Hyper,\"\"link\"", hostile, StringComparison.Ordinal);
        Assert.Equal(3, Lines(await aldo.GetStringAsync("/api/v1/requests/export?state=deciding")).Length);
        Assert.Single(Lines(await aldo.GetStringAsync("/api/v1/requests/export?text=nobody-of-that-name")));
        Assert.Equal(2, Lines(await aldo.GetStringAsync($"/api/v1/requests/export?text={rows[2].Number}")).Length);
        foreach (
            var filter in new[]
            {
                "state=deciding",
                "kind=joiner&open=true",
                $"text={rows[1].Number}",
                "waitsOn=mara",
                "late=true",
                "site=harbour",
                "olderThanDays=1",
            }
        )
            Assert.Equal(
                (await world.GetAsync<Page<RequestSummary>>($"/api/v1/requests?{filter}", "aldo")).Items.Count,
                Lines(await aldo.GetStringAsync($"/api/v1/requests/export?{filter}")).Length - 1
            );

        var history = Lines(await aldo.GetStringAsync($"/api/v1/requests/{raised[1].Id}/history/export"));
        Assert.Contains(
            history,
            l => l.Contains("mara", StringComparison.Ordinal) && l.Contains("approved", StringComparison.OrdinalIgnoreCase)
        );
        var catalogue = await world.GetAsync<Catalogue>("/api/v1/catalogue", "ines");
        Assert.Contains(catalogue.Entitlements, e => e is { Key: "directory/system-admins", Privileged: true, MostHolders: 3 });
        Assert.All(
            catalogue.Entitlements,
            e => Assert.True(e.Title.Length > 0 && e.Target.Length > 0 && e.Key.Contains('/', StringComparison.Ordinal))
        );
        var workflows = (await world.GetAsync<Page<WorkflowView>>("/api/v1/workflows", "ines")).Items;
        Assert.Equal(workflows.Select(w => w.Priority).OrderDescending(), workflows.Select(w => w.Priority));
        Assert.Equal(["Line manager", "Data office"], workflows.Single(w => w.Name == "powerful-access").Stages.Select(s => s.Title));

        static string[] Lines(string text) => text.Split('\n', StringSplitOptions.RemoveEmptyEntries);
    }
}
