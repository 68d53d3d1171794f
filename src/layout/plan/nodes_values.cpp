// Constants, variables, fields and elements.
#include <fmt/format.h>

#include "layout/plan/nodes.h"
#include "layout/run/run.h"

namespace operculum::layout {
namespace {

using Base = StaticType::Base;

class NumberNode final : public Node {
 public:
  NumberNode(Span where, std::int64_t value) : Node(where, {Base::number}), value_(value) {}
  Value value(Frame&) const override { return Value::of(value_); }
  std::int64_t number(Frame&) const override { return value_; }
  void write_back(WriteBack&) const override {}  // stays as it is
  std::optional<std::int64_t> constant() const override { return value_; }

 private:
  std::int64_t value_;
};

class TruthNode final : public Node {
 public:
  TruthNode(Span where, bool value) : Node(where, {Base::truth}), value_(value) {}
  Value value(Frame&) const override { return Value::truth(value_); }

 private:
  bool value_;
};

class NothingNode final : public Node {
 public:
  explicit NothingNode(Span where) : Node(where, {}) {}
  Value value(Frame&) const override { return {}; }
};

class TextNode final : public Node {
 public:
  TextNode(Span where, std::string text) : Node(where, {Base::text}), text_(std::move(text)) {}
  Value value(Frame& frame) const override { return frame.run.keep(text_); }
  void text(Frame&, std::string& out) const override { out += text_; }
  void write_back(WriteBack&) const override {}
  Bytes bytes(Frame&) const override { return Bytes(text_.begin(), text_.end()); }

 private:
  std::string text_;
};

class BytesNode final : public Node {
 public:
  BytesNode(Span where, const std::string& bytes)
      : Node(where, {Base::bytes}), bytes_(bytes.begin(), bytes.end()) {}
  Value value(Frame& frame) const override {
    std::uint32_t region = frame.run.store().add_region(make_memory_source(bytes_), "constant", std::nullopt);
    return Value::bytes(region, 0, bytes_.size());
  }
  Bytes bytes(Frame&) const override { return bytes_; }

 private:
  Bytes bytes_;
};

class SlotNode final : public Node {
 public:
  SlotNode(Span where, StaticType type, std::size_t slot, const TextPlan* raw)
      : Node(where, type), slot_(slot), raw_(raw) {}
  Value value(Frame& frame) const override {
    Value found = frame.slots[slot_];
    frame.run.check_had(found);
    if (raw_ == nullptr || found.kind != Value::Kind::bytes) return found;
    std::string out;
    raw_->decode(frame.run, found, out);
    return frame.run.keep(std::move(out));
  }
  void text(Frame& frame, std::string& out) const override {
    if (raw_ != nullptr) return raw_->decode(frame.run, frame.slots[slot_], out);
    Node::text(frame, out);
  }

  std::optional<std::size_t> slot() const override {
    return raw_ == nullptr ? std::optional(slot_) : std::nullopt;
  }
  void write_back(WriteBack& back) const override { back.stop("comes from a variable, not from a field"); }

 private:
  std::size_t slot_;
  const TextPlan* raw_;
};

class LazyNode final : public Node {
 public:
  LazyNode(Span where, std::size_t slot, const Node& body)
      : Node(where, body.type()), slot_(slot), body_(body) {}
  Value value(Frame& frame) const override {
    if (frame.slots[slot_].kind == Value::Kind::pending) {
      Value made = body_.value(frame);
      frame.slots[slot_] = made;
    }
    return frame.slots[slot_];
  }
  void write_back(WriteBack& back) const override { back.stop("comes from a variable, not from a field"); }

 private:
  std::size_t slot_;
  const Node& body_;
};

class GlobalNode final : public Node {
 public:
  GlobalNode(Span where, StaticType type, std::size_t global) : Node(where, type), global_(global) {}
  Value value(Frame& frame) const override { return frame.run.globals[global_]; }

 private:
  std::size_t global_;
};

class FieldNode final : public Node {
 public:
  FieldNode(Span where, NodePtr record, const RecordPlan& plan, const FieldPlan& field)
      : Node(where, field.type),
        record_(std::move(record)),
        plan_(plan),
        slot_(field.slot),
        name_(field.name) {
    variable_ = record_->slot();
    computed_ = field.read == nullptr;
    bool alone = field.read != nullptr && field.offset && field.read->direct && plan.plain;
    if (!alone && field.read == nullptr) return;
    text_ = dynamic_cast<const TextPlan*>(field.read);
    if (!alone) return;
    offset_ = field.offset;
    read_ = field.read;
    number_ = dynamic_cast<const NumberPlan*>(field.read);
    if (number_ != nullptr && number_->form != NumberPlan::Form::fixed) number_ = nullptr;
    plain_ = number_ != nullptr && number_->plain();
  }

  Value value(Frame& frame) const override {
    Value record = record_of(frame);
    if (!record.there()) return {};
    Value found = raw(frame, record);
    frame.run.check_had(found);
    if (text_ == nullptr || found.kind != Value::Kind::bytes) return found;
    std::string out;
    text_->decode(frame.run, found, out);
    return frame.run.keep(std::move(out));
  }
  std::int64_t number(Frame& frame) const override {
    if (const Value* placed = placed_variable(frame)) return placed_number(frame, *placed);
    Value record = record_of(frame);
    if (number_ != nullptr && record.kind == Value::Kind::placed) return placed_number(frame, record);
    return there(frame, record).a;
  }
  std::optional<std::int64_t> number_if(Frame& frame) const override {
    if (const Value* placed = placed_variable(frame)) return placed_number(frame, *placed);
    Value record = record_of(frame);
    if (number_ != nullptr && record.kind == Value::Kind::placed) return placed_number(frame, record);
    return Node::number_if(frame);
  }
  void text(Frame& frame, std::string& out) const override {
    Value found = there(frame, record_of(frame));
    if (text_ != nullptr) return text_->decode(frame.run, found, out);
    out += frame.run.text(found);
  }

  void write_back(WriteBack& back) const override {
    back.fields.push_back(plan_.name + "." + name_);
    if (computed_) back.stop("is computed in its record");
  }

 private:
  /// The record where it is a variable that is read in place, which it is in every loop over a table.
  const Value* placed_variable(Frame& frame) const {
    if (number_ == nullptr || !variable_) return nullptr;
    const Value& record = frame.slots[*variable_];
    return record.kind == Value::Kind::placed ? &record : nullptr;
  }
  std::int64_t placed_number(Frame& frame, const Value& record) const {
    Run& run = frame.run;
    std::uint64_t at = record.offset() + *offset_;
    std::int64_t found = number_->raw(run.region(record.object).at(at, number_->bytes), run.big);
    if (!plain_) {
      Frame bare{run, nullptr};
      found = number_->refine(bare, found);
    }
    if (auto base = run.recorded(record.object))
      run.recorder->numbers.push_back(
          {number_, *base + at, number_->bytes, number_->big.value_or(run.big), found});
    return found;
  }
  Value record_of(Frame& frame) const {
    if (!variable_) return record_->value(frame);
    frame.run.check_had(frame.slots[*variable_]);
    return frame.slots[*variable_];
  }
  Value raw(Frame& frame, const Value& record) const {
    Run& run = frame.run;
    if (read_ != nullptr && record.kind == Value::Kind::placed) {
      std::uint64_t at = record.offset() + *offset_;
      Reader reader{record.object, 0, at, run.region(record.object).size(), at};
      Frame bare{run, nullptr, &reader};
      return read_->read(bare, reader);
    }
    return run.slots_of(record, plan_)[slot_];
  }
  Value there(Frame& frame, const Value& record) const {
    if (!record.there())
      fail(frame.run, fmt::format("\"{}\" is wanted of a record that is not there", name_));
    Value found = raw(frame, record);
    frame.run.check_had(found);
    if (!found.there()) fail(frame.run, fmt::format("the field \"{}\" is not there in this record", name_));
    return found;
  }

  NodePtr record_;
  std::optional<std::size_t> variable_;  // the record is a variable: looked up without a call
  const RecordPlan& plan_;
  std::size_t slot_;
  std::string name_;
  bool computed_ = false;
  std::optional<std::uint64_t> offset_;
  const ReadPlan* read_ = nullptr;
  const TextPlan* text_ = nullptr;
  const NumberPlan* number_ = nullptr;
  bool plain_ = false;  // the number stands there as it is
};

class ElementNode final : public Node {
 public:
  ElementNode(Span where, NodePtr list, NodePtr index)
      : Node(where, list->type().element()), list_(std::move(list)), index_(std::move(index)) {}
  Value value(Frame& frame) const override {
    Value list = list_->value(frame);
    if (!list.there()) return {};
    std::int64_t index = index_->number(frame);
    std::uint64_t count = frame.run.count(list);
    if (index < 0 || static_cast<std::uint64_t>(index) >= count)
      fail(frame.run, fmt::format("element {} is wanted of a list of {}", index, count));
    return frame.run.element(list, static_cast<std::uint64_t>(index));
  }

 private:
  NodePtr list_, index_;
};

class ListSliceNode final : public Node {
 public:
  ListSliceNode(Span where, NodePtr list, NodePtr from, NodePtr to)
      : Node(where, list->type()), list_(std::move(list)), from_(std::move(from)), to_(std::move(to)) {}
  Value value(Frame& frame) const override {
    Value list = list_->value(frame);
    std::int64_t from = from_->number(frame), to = to_->number(frame);
    std::uint64_t count = list.there() ? frame.run.count(list) : 0;
    if (from < 0 || to < from || static_cast<std::uint64_t>(to) > count)
      fail(frame.run, fmt::format("elements {} to {} are wanted of a list of {}", from, to, count));
    List part;
    for (std::int64_t i = from; i < to; ++i) {
      frame.run.step(where());
      part.values.push_back(frame.run.element(list, static_cast<std::uint64_t>(i)));
    }
    return frame.run.store().add(std::move(part));
  }

 private:
  NodePtr list_, from_, to_;
};

/// Of a text, counted in bytes.
class TextSliceNode final : public Node {
 public:
  TextSliceNode(Span where, NodePtr text, NodePtr from, NodePtr to)
      : Node(where, {Base::text}), text_(std::move(text)), from_(std::move(from)), to_(std::move(to)) {}
  Value value(Frame& frame) const override { return frame.run.keep(text_of(frame)); }
  void text(Frame& frame, std::string& out) const override {
    std::string whole = text_->text_of(frame);
    std::uint64_t from = from_->size(frame, "an offset"), to = to_->size(frame, "an offset");
    if (to < from || to > whole.size())
      fail(frame.run, fmt::format("bytes {} to {} are wanted of a text of {}", from, to, whole.size()));
    out.append(whole, from, to - from);
  }

 private:
  NodePtr text_, from_, to_;
};

class BytesSliceNode final : public Node {
 public:
  BytesSliceNode(Span where, NodePtr bytes, NodePtr from, NodePtr length)
      : Node(where, {Base::bytes}),
        bytes_(std::move(bytes)),
        from_(std::move(from)),
        length_(std::move(length)) {}
  Value value(Frame& frame) const override {
    Run& run = frame.run;
    Value bytes = bytes_ != nullptr ? bytes_->value(frame) : Value::bytes(0, 0, run.region(0).size());
    if (!bytes.there()) return {};
    if (bytes.kind == Value::Kind::blob && !run.store().blobs[bytes.object].missing.empty()) return bytes;
    std::uint64_t from = from_->size(frame, "an offset");
    Run::Piece piece = run.placed(bytes);
    if (length_ == nullptr) {  // the rest
      if (from > piece.length)
        fail(run, fmt::format("the rest from offset {} is wanted of {} bytes", from, piece.length));
      return Value::bytes(piece.region, piece.offset + from, piece.length - from);
    }
    std::uint64_t length = length_->size(frame, "a length");
    if (bytes_ != nullptr && (from > piece.length || length > piece.length - from))
      fail(run, fmt::format("{} bytes at offset {} are wanted of {} bytes", length, from, piece.length));
    return Value::bytes(piece.region, piece.offset + from, length);  // of the file: told when it is read
  }

  void write_back(WriteBack& back) const override {
    from_->write_back(back);
    if (length_ != nullptr) length_->write_back(back);
  }

 private:
  NodePtr bytes_, from_, length_;
};

}  // namespace

NodePtr number_node(Span where, std::int64_t value) {
  return std::make_unique<NumberNode>(where, value);
}
NodePtr truth_node(Span where, bool value) {
  return std::make_unique<TruthNode>(where, value);
}
NodePtr nothing_node(Span where) {
  return std::make_unique<NothingNode>(where);
}
NodePtr text_node(Span where, std::string text) {
  return std::make_unique<TextNode>(where, std::move(text));
}
NodePtr bytes_node(Span where, const std::string& bytes) {
  return std::make_unique<BytesNode>(where, bytes);
}
NodePtr lazy_node(Span where, std::size_t slot, const Node& body) {
  return std::make_unique<LazyNode>(where, slot, body);
}
NodePtr slot_node(Span where, StaticType type, std::size_t slot, const TextPlan* raw) {
  return std::make_unique<SlotNode>(where, type, slot, raw);
}
NodePtr global_node(Span where, StaticType type, std::size_t global) {
  return std::make_unique<GlobalNode>(where, type, global);
}
NodePtr field_node(Span where, NodePtr record, const RecordPlan& plan, const FieldPlan& field) {
  return std::make_unique<FieldNode>(where, std::move(record), plan, field);
}
NodePtr element_node(Span where, NodePtr list, NodePtr index) {
  return std::make_unique<ElementNode>(where, std::move(list), std::move(index));
}
NodePtr list_slice_node(Span where, NodePtr list, NodePtr from, NodePtr to) {
  return std::make_unique<ListSliceNode>(where, std::move(list), std::move(from), std::move(to));
}
NodePtr text_slice_node(Span where, NodePtr text, NodePtr from, NodePtr to) {
  return std::make_unique<TextSliceNode>(where, std::move(text), std::move(from), std::move(to));
}
NodePtr bytes_slice_node(Span where, NodePtr bytes, NodePtr from, NodePtr length) {
  return std::make_unique<BytesSliceNode>(where, std::move(bytes), std::move(from), std::move(length));
}

}  // namespace operculum::layout
