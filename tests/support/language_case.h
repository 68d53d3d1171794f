#pragma once

#include <memory>

#include "base/error.h"
#include "base/time.h"
#include "container/rewrite.h"
#include "layout/compile.h"
#include "layout/described_container.h"
#include "support/byte_writer.h"

namespace operculum::test {

/// A description (without its first line) tried on some bytes.
class Described {
 public:
  Described(
      const std::string& text, Bytes bytes,
      const std::function<void(OpenContext&)>& set_up = [](OpenContext&) {}) {
    set_up(context_);
    layout::Compiled compiled = layout::compile({"test.layout", "layout \"Test\"\n" + text});
    for (const layout::Problem& problem : compiled.problems) {
      if (problem.level == layout::Problem::Level::error) error_ += problem.text + "\n";
    }
    if (!compiled.plan) return;
    SourcePtr source = make_memory_source(std::move(bytes));
    try {
      container_ =
          layout::open_described(compiled.plan, {make_content(source), "test.bin"}, source, context_);
      container_->entries();
    } catch (const Error& error) {
      error_ = error.what();
      container_ = nullptr;
    }
  }

  const std::string& error() const { return error_; }  ///< of compiling or opening
  std::span<const Entry> entries() { return container_->entries(); }

  /// "path=content path=content"; of what cannot be read ".." stands for the content.
  std::string listing() {
    std::string out;
    if (!container_) return "not opened: " + error_;
    for (std::size_t i = 0; i < entries().size(); ++i) {
      out += (out.empty() ? "" : " ") + entries()[i].path + "=";
      try {
        out += read(i);
      } catch (const Error&) {
        out += "..";
      }
    }
    return out;
  }
  std::string paths() {
    std::string out;
    if (!container_) return "not opened: " + error_;
    for (const Entry& entry : entries()) out += (out.empty() ? "" : " ") + entry.path;
    return out;
  }
  std::string content(const std::string& path) {
    for (std::size_t i = 0; container_ && i < entries().size(); ++i) {
      if (entries()[i].path != path) continue;
      try {
        return read(i);
      } catch (const Error& error) {
        return std::string("error: ") + error.what();
      }
    }
    return "no entry: " + error_;
  }
  std::string content_error(const std::string& path) {
    std::string text = content(path);
    return text.starts_with("error: ") ? text.substr(7) : "none";
  }
  std::string first_finding() {
    if (!container_) return error_;
    auto findings = container_->findings();
    return findings.empty() ? "" : findings[0].text;
  }
  /// All of them, a line each.
  std::string findings() {
    if (!container_) return error_;
    std::string out;
    for (const Finding& finding : container_->findings()) out += finding.text + "\n";
    return out;
  }
  /// Written again with changes; throws what writing throws.
  SourcePtr rewritten(const Changes& changes, const PackChoice& choice = {}) {
    Writing writing{choice, context_.spool, [](const std::string&, const std::string&) {}};
    return container_->rewrite(changes, writing).source();
  }
  std::string facts() {
    std::string out;
    for (const auto& [name, value] : container_->facts())
      out += (out.empty() ? "" : " ") + name + "=" + value;
    return out;
  }

 private:
  std::string read(std::size_t index) {
    Bytes data = read_all(*container_->content(index)->stream(), 1 << 20);
    return std::string(as_text(data));
  }

  OpenContext context_;
  std::string error_;
  std::shared_ptr<layout::DescribedContainer> container_;
};

}  // namespace operculum::test
