#pragma once

#include "io/http_client.h"
#include "io/source.h"
#include "io/spool.h"

namespace operculum {

/// A file on a server: what is read of it is asked for, in blocks that are kept a while, and further ahead
/// the longer it is read forwards. A server that sends no parts is asked once, for everything, which is
/// spooled. Throws as HttpClient.
SourcePtr open_url(const std::string& url, HttpOptions options, SpoolBudget& spool);

}  // namespace operculum
