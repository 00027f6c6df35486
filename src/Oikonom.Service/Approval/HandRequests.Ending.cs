using System.Security.Claims;
using Oikonom.Contracts;
using Oikonom.Core;
using Oikonom.Core.Intake;
using Oikonom.Core.Planning;
using Oikonom.Core.Rulebook;
using Oikonom.Service.Access;
using Oikonom.Service.Common;
using Oikonom.Service.Editions;
using Oikonom.Service.Records;
using Oikonom.Store;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Approval;

/// <content>Access ends before its time: given back by who holds it, or taken away by who answers for it.</content>
public sealed partial class HandRequests
{
    private static readonly string EndKind = EnumText.Of(RequestKind.End);

    /// <summary>
    /// Ends something that is held. What was asked for ends at once when its holder, their line manager or its owner says so;
    /// what a rule gives when the manager or the owner does. All else goes the way of approval.
    /// </summary>
    /// <returns>The id of the request.</returns>
    /// <exception cref="Problem">400: nothing such is held, or no reason; 403: the caller is none of these; 409: it is ended
    /// already.</exception>
    public async Task<string> EndAsync(string person, EndAccessBody body, ClaimsPrincipal user, CancellationToken cancel)
    {
        var newest = await editions.CurrentAsync(cancel);
        return await store.WriteAsync(
            async s =>
            {
                var row = await s.RequirePersonAsync(person);
                var edition = await editions.OnAsync(row.Edition, cancel);
                var key = EntitlementKey.TryParse(body.Entitlement, out var named) ? named : null;
                if (key is null || (newest.Rulebook.Find(key) ?? edition.Rulebook.Find(key)) is not { } entitlement)
                    throw Problem.Invalid($"There is no entitlement '{body.Entitlement}'.", "entitlement");
                var isTheirs = user.IsSelf(row);
                var answers = !isTheirs && Answers(user, row, entitlement);
                if (!isTheirs && !answers)
                    RequireRaises(user, row);
                var reason = body.Reason?.Trim() ?? "";
                if (reason.Length == 0 && !isTheirs)
                    throw Problem.Invalid("Say why it is taken away; the person reads it.", "reason");
                if (reason.Length > 2000)
                    throw Problem.Invalid("A reason has 2000 characters at most.", "reason");
                await RequireNotEndingAsync(s, row, key);
                var recorded = await Recorded.LoadAsync(s, [row.Id]);
                var subject = recorded.Subject(row.Id, edition);
                if (!subject.Extra.Any(e => e.Key == key) && !recorded.State(row.Id).Grants.ContainsKey(key))
                    throw Problem.Invalid($"{row.Display} does not hold {entitlement.Title}.", "entitlement");
                var unasked = subject with { Extra = [.. subject.Extra.Where(e => e.Key != key)] };
                var isRuled = Desired.At(unasked, edition, time.GetUtcNow()).Grants.ContainsKey(key);
                var cause = isTheirs
                    ? $"{row.Display} gives {entitlement.Title} back{(reason.Length > 0 ? $": {reason}" : "")}"
                    : $"{entitlement.Title} is taken from {row.Display}: {reason}";
                var atOnce = answers || (isTheirs && !isRuled);
                var raised = await Raising.RaiseAsync(
                    s,
                    [
                        new(row.Id, EndKind, atOnce ? Workflow.GivenBack.Name : Case.DefaultFor(newest, EndKind).Name, newest.Number, cause)
                        {
                            Requester = user.UserName(),
                            Wish = new Wish
                            {
                                Reason = reason,
                                Ends = [key.ToString()],
                                Refuses = isRuled ? [key.ToString()] : null,
                            }.ToJson(),
                            Details = [("entitlement", key.ToString()), ("reason", reason)],
                        },
                    ],
                    time.GetUtcNow()
                );
                return raised[0];
            },
            cancel
        );
    }

    private static async Task RequireNotEndingAsync(Session s, PersonRow row, EntitlementKey key)
    {
        var open = (await s.RequestsPageAsync(new(PersonId: row.Id, OpenOnly: true))).FirstOrDefault(r =>
            r.Kind == EndKind && Wish.FromJson(r.Wish).Ends?.Contains(key.ToString()) == true
        );
        if (open is not null)
            throw Problem.Conflict("asked-already", $"Request {open.Number} ends it already.");
    }

    /// <summary>True when the caller may end what this person holds.</summary>
    public static bool MayEnd(ClaimsPrincipal user, PersonRow row, Entitlement? entitlement) =>
        user.IsSelf(row)
        || (entitlement is not null && Answers(user, row, entitlement))
        || (
            user.RoleNames().Any(Roles.Policies["request"].Contains)
            && user.ReachOf(Roles.Requester, Roles.Engineer) is var parts
            && (parts is null || parts.Any(p => p.Covers(row.Site, row.Department)))
        );

    /// <summary>True for the line manager of the person and the owner of the entitlement.</summary>
    private static bool Answers(ClaimsPrincipal user, PersonRow row, Entitlement entitlement) =>
        IsNumber(user, row.Manager) || IsNumber(user, entitlement.Owner);

    private static bool IsNumber(ClaimsPrincipal user, string? number) => number is { Length: > 0 } && user.Number() == number;

    private static void RequireRaises(ClaimsPrincipal user, PersonRow row)
    {
        if (!user.RoleNames().Any(Roles.Policies["request"].Contains))
            throw new Problem(
                403,
                "not-yours",
                "Not allowed",
                "Access is ended by who holds it, their line manager, its owner, or who raises requests."
            );
        user.RequireReach(row.Site, row.Department, Roles.Requester, Roles.Engineer);
    }
}
