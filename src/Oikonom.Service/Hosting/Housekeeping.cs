using System.Net.Sockets;
using System.Security.Cryptography;
using Microsoft.AspNetCore.Authentication;
using Microsoft.AspNetCore.Authentication.Cookies;
using Microsoft.AspNetCore.DataProtection;
using Microsoft.AspNetCore.Http.Json;
using Microsoft.AspNetCore.HttpOverrides;
using Oikonom.Core.Approval;
using Oikonom.Core.Ledger;
using Oikonom.Service.Access;
using Oikonom.Service.Approval;
using Oikonom.Service.Common;
using Oikonom.Service.Desk;
using Oikonom.Service.Editions;
using Oikonom.Service.Fulfilment;
using Oikonom.Service.Intake;
using Oikonom.Service.Ledger;
using Oikonom.Service.Live;
using Oikonom.Service.Notices;
using Oikonom.Service.Overview;
using Oikonom.Service.People;
using Oikonom.Service.Planning;
using Oikonom.Service.Records;
using Oikonom.Service.Rulebook;
using Oikonom.Service.Scim;
using Oikonom.Store;
using Oikonom.Store.Rooms;
using Serilog.Events;
using Serilog.Formatting.Compact;

namespace Oikonom.Service.Hosting;

/// <summary>Forgets hints and answers that nobody can ask for any more.</summary>
public sealed class Housekeeping(Store.Store store, TimeProvider time, Pulse pulse, ILogger<Housekeeping> log)
    : Loop(TimeSpan.FromMinutes(10), pulse, log)
{
    private static readonly TimeSpan Keep = TimeSpan.FromHours(6);
    private static readonly TimeSpan KeepAnswers = TimeSpan.FromDays(7);

    protected override async Task<bool> WorkAsync(CancellationToken cancel)
    {
        await store.WriteAsync(
            async s =>
            {
                await s.PruneHintsAsync(time.Milliseconds() - (long)Keep.TotalMilliseconds);
                await s.PruneTriesAsync(time.Milliseconds() - (long)KeepAnswers.TotalMilliseconds);
                await s.PruneAnswersAsync(time.Milliseconds() - (long)KeepAnswers.TotalMilliseconds);
            },
            cancel
        );
        return false;
    }
}
