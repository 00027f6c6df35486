using System.Security.Claims;
using Microsoft.AspNetCore.Mvc;
using Oikonom.Service.Access;
using Oikonom.Service.Common;
using Oikonom.Store.Rooms;

namespace Oikonom.Service.Approval;

/// <summary>The filters of lists of requests, as a call names them; a list and its export know the same.</summary>
public sealed class RequestQuery
{
    [FromQuery(Name = "state")]
    public string? State { get; init; }

    [FromQuery(Name = "kind")]
    public string? Kind { get; init; }

    [FromQuery(Name = "text")]
    public string? Text { get; init; }

    [FromQuery(Name = "person")]
    public string? Person { get; init; }

    [FromQuery(Name = "open")]
    public bool? Open { get; init; }

    [FromQuery(Name = "site")]
    public string? Site { get; init; }

    [FromQuery(Name = "department")]
    public string? Department { get; init; }

    [FromQuery(Name = "target")]
    public string? Target { get; init; }

    [FromQuery(Name = "requester")]
    public string? Requester { get; init; }

    [FromQuery(Name = "waitsOn")]
    public string? WaitsOn { get; init; }

    [FromQuery(Name = "late")]
    public bool? Late { get; init; }

    [FromQuery(Name = "stuck")]
    public bool? Stuck { get; init; }

    [FromQuery(Name = "olderThanDays")]
    public int? OlderThanDays { get; init; }

    /// <summary>What the caller sees of what they ask for; <c>me</c> is the caller.</summary>
    /// <exception cref="Problem">The text is too long.</exception>
    public RequestFilter For(ClaimsPrincipal user, TimeProvider time) =>
        new(State ?? "", Kind ?? "", Paging.Text(Text), Person ?? "", OpenOnly: Open == true)
        {
            Site = Site ?? "",
            Department = Department ?? "",
            Target = Target ?? "",
            Requester = Requester == "me" ? user.UserName() : Requester ?? "",
            WaitsOn = WaitsOn == "me" ? user.UserName() : WaitsOn ?? "",
            Late = Late == true,
            Stuck = Stuck == true,
            RaisedBefore = OlderThanDays is > 0 and < 10_000 ? time.Milliseconds() - (OlderThanDays * 86_400_000L) : null,
            Reach = user.ReachParts(),
        };
}
