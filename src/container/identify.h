#pragma once

#include "container/format.h"

namespace operculum {

/// The format of the bytes, by content; the name only settles a weak match. Nothing when no format claims
/// them.
const Format* recognise(Probe& probe);

/// Whether the format's usual name endings fit.
bool name_fits(const Format& format, std::string_view name);

/// The same with the formats that `context` adds.
const Format* recognise(Probe& probe, const OpenContext& context);

/// A format that recognises bytes, and how sure it is.
struct Claim {
  const Format* format = nullptr;
  Match match = Match::none;
};

/// All that recognise the bytes, the surest first; weak ones, too, which count only where the name agrees.
/// What nearly does says so in the probe (Probe::almost()).
std::vector<Claim> claims_on(Probe& probe, const OpenContext& context);

/// Why a claim counts or does not, for a person.
std::string_view reason_of(const Claim& claim, std::string_view name);

/// By descriptions alone: those that the user named, then the others.
const Format* recognise_described(Probe& probe, const OpenContext& context);

/// A probe on content: at random where that costs no decoding, else on the front of its stream.
Probe make_probe(const Content& content, const std::string& name);

/// The first bytes of a stream, as many as a probe may see.
struct Front {
  Bytes bytes;
  bool complete = false;  ///< the stream ended within them
};
Front read_front(Stream& stream);

}  // namespace operculum
