#include "task/unpack_log.h"

namespace operculum {

void UnpackLog::emit(UnpackEvent event) {
  work_.report(report_of(std::move(event)));
}

void UnpackLog::left_out(const std::string& path, std::string why, std::string_view cause) {
  emit({.kind = UnpackEvent::Kind::left_out, .path = path, .message = std::move(why), .cause = cause});
}

void UnpackLog::kept(const std::string& path, const std::string& output) {
  emit({UnpackEvent::Kind::kept, path, output, 0, "",
        "something is there already; --existing replace or rename would write it"});
}

void UnpackLog::failed(const std::string& path, const std::string& output, const Error& error) {
  emit({UnpackEvent::Kind::failed, path, output, 0, "", error.what(), error.kind()});
}

void UnpackLog::finding(const std::string& path, const Finding& finding) {
  auto kind = finding.level == Finding::Level::note      ? UnpackEvent::Kind::note
              : finding.level == Finding::Level::warning ? UnpackEvent::Kind::warning
                                                         : UnpackEvent::Kind::fault;
  emit({kind, path, "", 0, "", finding.text});
}

OrderedWork::Report UnpackLog::report_of(UnpackEvent event) {
  return [this, event = std::move(event)] {
    count(event);
    sink_(event);
  };
}

void UnpackLog::count(const UnpackEvent& event) {
  switch (event.kind) {
    case UnpackEvent::Kind::file:
      ++totals.files;
      totals.bytes += event.size;
      break;
    case UnpackEvent::Kind::folder:
      ++totals.folders;
      break;
    case UnpackEvent::Kind::link:
      ++totals.links;
      break;
    case UnpackEvent::Kind::device:
      ++totals.devices;
      break;
    case UnpackEvent::Kind::kept:
      ++totals.kept;
      not_written_.insert(event.output);
      break;
    case UnpackEvent::Kind::left_out:
      ++totals.left_out;
      break;
    case UnpackEvent::Kind::failed:
      ++totals.failed;
      totals.key_needed |= event.error == ErrorKind::needs_key;
      not_written_.insert(event.output);
      if (!request_.keep_going) stop_ = true;
      break;
    case UnpackEvent::Kind::fault:
      ++totals.faults;
      break;
    default:
      break;
  }
}

}  // namespace operculum
