#include "container/format.h"

namespace operculum {

OpenContext::OpenContext() {
  spool.set_watch([&guards = limits](std::uint64_t bytes) { guards.count_spooled(bytes); });
}

OpenContext::~OpenContext() = default;

std::unique_ptr<OpenContext> OpenContext::for_thread() const {
  if (described) described();  // found once, before there are several threads
  auto copy = std::make_unique<OpenContext>();
  copy->limits = limits;
  copy->limits.spent = std::make_shared<Spent>();
  copy->view = view;
  copy->names_in = names_in;
  copy->keys = keys;
  copy->http = http;
  copy->spool.set_disk(limits.max_spool);
  copy->may_have_key = may_have_key;
  copy->known_names = known_names;
  copy->preferred = preferred;
  copy->described = described;
  copy->searched = searched;
  return copy;
}

}  // namespace operculum
