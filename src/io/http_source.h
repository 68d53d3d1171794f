#pragma once

#include "io/http_client.h"
#include "io/source.h"
#include "io/spool.h"

namespace operculum {

/// What a URL leads to: a file of which parts can be asked for, else its bytes as they come in.
struct FromServer {
  SourcePtr source;
  StreamPtr stream;  ///< where there is no source: a server that sends no parts, of a file of some length
};

/// A file on a server: what is read of it is asked for, in blocks that are kept a while, and further ahead
/// the longer it is read forwards. A server that sends no parts is asked once, for everything. Throws as
/// HttpClient, also while the stream is read.
FromServer open_url_once(const std::string& url, HttpOptions options);

/// The same, spooled where the server sends no parts.
SourcePtr open_url(const std::string& url, HttpOptions options, SpoolBudget& budget);

}  // namespace operculum
